# The specification of a store, which every kind has to pass. A kind is a
# function that opens a new store.
stores <- list(
  sqlite = function(env = parent.frame()) new_archive(env = env),
  postgres = function(env = parent.frame()) postgres_archive(env),
  columns = function(env = parent.frame()) columns_archive(env),
  shards = function(env = parent.frame()) columns_archive(env, cluster = TRUE)
)

series_page <- function(key, time, known, value, status = NULL, ...,
                        dataset = "levels") {
  rows <- list(
    time = vetusta:::utc(time),
    known = vetusta:::utc(known),
    value = value
  )
  rows$status <- status
  series <- data.frame(
    key = key,
    frequency = "D",
    dimensions = sprintf("{\"series\":\"%s\"}", key)
  )
  list(
    source = "river",
    dataset = dataset,
    shape = "observations",
    rows = vetusta:::parcel_series(series, rows),
    ...
  )
}
entry <- function(outcome = "stored") {
  list(
    run = "r", source = "river", dataset = "levels", asked = 1, rows = 1,
    outcome = outcome
  )
}
read_all <- function(store, key = "a", ...) {
  series <- vetusta:::store_series(store)
  vetusta:::store_read(store, series$id[series$key == key], ...)$columns
}

# A history by its definition: each write separately.
plain_history <- function() {
  rows <- data.frame(
    time = numeric(), known = numeric(), value = numeric(), status = character()
  )
  list(
    put = function(time, known, value, status, now) {
      held <- rows$time
      for (i in order(time, known)) {
        # the first value of a time counts from its end, later ones from their
        # arrival
        at <- if (!is.na(known[i])) {
          known[i]
        } else if (time[i] %in% held) {
          now
        } else {
          -Inf
        }
        before <- rows[rows$time == time[i] & rows$known <= at, ]
        last <- before[order(before$known), ][nrow(before), ]
        if (nrow(before) &&
          identical(last$value, value[i]) &&
          last$status == status[i]) {
          next
        }
        # deleting nothing has no effect, unless the deletion is dated
        if (!nrow(before) && status[i] == "deleted" && is.na(known[i])) next
        clash <- which(rows$time == time[i] & rows$known == at)
        newest <- !any(rows$time == time[i] & rows$known > at)
        if (length(clash) && newest) {
          at <- now
        } else if (length(clash)) {
          rows <<- rows[-clash, ]
        }
        rows <<- rbind(
          rows,
          data.frame(
            time = time[i], known = at, value = value[i], status = status[i]
          )
        )
      }
    },
    known = function(at) {
      seen <- rows[rows$known <= at, ]
      seen <- seen[order(seen$time, seen$known), ]
      seen <- seen[!duplicated(seen$time, fromLast = TRUE), ]
      seen[seen$status != "deleted", ]
    }
  )
}

for (kind in names(stores)) {
  open_store <- stores[[kind]]

  test_that(
    paste(
      kind, "keeps a history as it is defined, however it comes, and reads it",
      "as it was known"
    ),
    {
      withr::with_seed(
        21,
        for (turn in 1:25) {
          store <- open_store()
          plain <- plain_history()
          for (step in 1:8) {
            n <- sample(6, 1)
            time <- sample(10, n) * 86400
            known <- if (runif(1) < 0.5) {
              rep(NA_real_, n)
            } else {
              rep(sample(100, 1) + 0, n)
            }
            value <- sample(3, n, TRUE) + 0
            status <- ifelse(runif(n) < 0.15, "deleted", "observed")
            value[status == "deleted"] <- NA
            now <- 1000 + step
            order <- order(time)
            vetusta:::store_put(
              store,
              series_page(
                "a",
                time[order],
                known[order],
                value[order],
                status[order],
                now = now,
                journal = if (runif(1) < 0.5) entry()
              )
            )
            plain$put(
              time[order], known[order], value[order], status[order], now
            )
          }
          for (at in c(50, 100, 1003, 1008, Inf)) {
            got <- read_all(store, at = at)
            there <- !got$status %in% "deleted"
            query <- plain$known(at)
            expect_identical(
              as.numeric(got$time)[there],
              query$time,
              label = paste("turn", turn, "at", at)
            )
            expect_identical(
              as.numeric(got$value)[there],
              query$value,
              label = paste("turn", turn, "at", at)
            )
          }
        }
      )
    }
  )

  test_that(
    paste(
      kind,
      "counts new, changed and unchanged, and the same again changes nothing"
    ),
    {
      store <- open_store()
      days <- 86400 * 1:5
      put <- function(value) {
        vetusta:::store_put(
          store,
          series_page("a", days, rep(NA_real_, 5), value, journal = entry())
        )
      }
      expect_identical(put(1:5 + 0), c(new = 5, changed = 0, unchanged = 0))
      expect_identical(put(1:5 + 0), c(new = 0, changed = 0, unchanged = 5))
      expect_identical(
        put(c(1, 2, 9, 4, 5)), c(new = 0, changed = 1, unchanged = 4)
      )
      sizes <- vetusta:::store_series(store, sizes = TRUE)
      expect_identical(as.numeric(sizes$rows), 5)
      expect_identical(nrow(vetusta:::store_journal(store)), 3L)
    }
  )

  test_that(paste(kind, "puts a page whole or not at all"), {
    store <- open_store()
    page <- series_page("a", 86400, NA, 1, journal = entry())
    expect_error_kind(
      vetusta:::store_transaction(store, function() {
        vetusta:::store_put(store, page)
        stop("database or disk is full")
      }),
      "archive", "full"
    )
    expect_identical(nrow(vetusta:::store_series(store)), 0L)
    expect_identical(nrow(vetusta:::store_journal(store)), 0L)
    vetusta:::store_put(store, page)
    expect_identical(read_all(store)$value, 1)
  })

  test_that(
    paste(
      kind, "reads many series at once, in the order in which they are asked",
      "for, within a window"
    ),
    {
      store <- open_store()
      keys <- sprintf("s%03d", 1:60)
      for (key in sample(keys)) {
        vetusta:::store_put(
          store,
          series_page(
            key, 86400 * 1:20, rep(NA_real_, 20), match(key, keys) + 1:20 / 100
          )
        )
      }
      series <- vetusta:::store_series(store)
      ids <- series$id[match(rev(keys), series$key)]
      read <- vetusta:::store_read(store, ids, from = 86400 * 5, to = 86400 * 8)
      expect_identical(read$rows, rep(3L, 60))
      expect_equal(read$columns$value, rep(60:1, each = 3) + rep(5:7 / 100, 60))
      expect_identical(
        vetusta:::store_read(store, ids[1:2], from = 1e12)$rows, c(0L, 0L)
      )
    }
  )

  test_that(
    paste(kind, "settles many small segments into few, with every release"),
    {
      store <- open_store()
      withr::with_seed(22, days <- sample(200))
      for (day in days) {
        vetusta:::store_put(
          store,
          series_page(
            "a", 86400 * day, NA, day + 0, journal = entry(), now = 1000
          )
        )
      }
      vetusta:::store_put(
        store,
        series_page(
          "a", 86400 * 1:10, rep(NA_real_, 10), rep(0, 10), now = 2000
        )
      )
      vetusta:::store_settle(store)
      expect_identical(read_all(store)$value, c(rep(0, 10), 11:200))
      expect_identical(read_all(store, at = 1500)$value, 1:200 + 0)
      expect_identical(length(read_all(store, newest = FALSE)$value), 210L)
    }
  )

  test_that(
    paste(kind, "joins stretches that touch, and tells those of some keys"),
    {
      store <- open_store()
      cover <- function(key, start, end) {
        vetusta:::store_put(
          store,
          list(
            source = "s",
            dataset = "d",
            covered = data.frame(key = key, start = start, end = end)
          )
        )
      }
      plain <- logical(100)
      withr::with_seed(
        23,
        for (i in 1:40) {
          from <- sample(98, 1)
          to <- min(100, from + sample(6, 1))
          cover("k", from, to)
          plain[from:(to - 1)] <- TRUE
        }
      )
      cover("other", 1, 2)
      held <- vetusta:::store_covered(store, "s", "d", "k")
      runs <- rle(plain)
      ends <- cumsum(runs$lengths)
      expect_identical(held$start, (ends - runs$lengths + 1)[runs$values])
      expect_identical(held$end, (ends + 1)[runs$values])
      expect_setequal(
        vetusta:::store_covered(store, "s", "d")$key, c("k", "other")
      )
    }
  )

  test_that(paste(kind, "keeps notes, claims and tokens"), {
    store <- open_store()
    vetusta:::store_note(store, "asked", "s", "d", "k", "v", at = 5)
    vetusta:::store_note(store, "asked", "s", "d", "k", "w", at = 6)
    expect_identical(
      vetusta:::store_notes(store, "asked", "s", "d", "k")[c("at", "value")],
      data.frame(at = 6, value = "w")
    )
    vetusta:::store_forget(store, "asked", "s", "d", "k")
    expect_identical(nrow(vetusta:::store_notes(store, "asked", "s", "d")), 0L)
    expect_identical(vetusta:::store_claim(store, "c", 0), "ours")
    vetusta:::store_claim_done(store, "c")
    expect_identical(vetusta:::store_claim(store, "c", 0), "done")
    expect_identical(vetusta:::store_claim(store, "c", Inf), "ours")
    limit <- list(list(count = 2, seconds = 60))
    for (i in 1:2) {
      expect_false(is.null(vetusta:::store_token_take(store, "s", limit, 1)$id))
    }
    expect_null(vetusta:::store_token_take(store, "s", limit, 1)$id)
    expect_false(
      is.null(vetusta:::store_token_take(store, "other", limit, 1)$id)
    )
  })

  test_that(paste(kind, "keeps records and frames with what they were"), {
    store <- open_store()
    put <- function(...) put_rows(store, "quay", ...)
    one <- data.frame(
      symbol = c("A", "B"),
      name = c("x", "y"),
      listed = as.Date("2026-01-01") + 0:1,
      size = c(1.5, NA),
      live = c(TRUE, NA)
    )
    expect_identical(
      put("directory", "instruments", one),
      c(new = 2, changed = 0, unchanged = 0)
    )
    expect_identical(
      put("directory", "instruments", one),
      c(new = 0, changed = 0, unchanged = 2)
    )
    before <- as.numeric(Sys.time())
    Sys.sleep(0.01)
    two <- one
    two$name[2] <- "z"
    expect_identical(
      put("directory", "instruments", two),
      c(new = 0, changed = 1, unchanged = 1)
    )
    expect_identical(
      as.data.frame(archive_rows(store, "quay", "directory")), two
    )
    expect_identical(
      archive_rows(
        store,
        "quay",
        "directory",
        as_of = vetusta:::utc(before)
      )$name,
      c("x", "y")
    )
    market <- data.frame(symbol = c("A", "B"), last = c(1, 2))
    put("market", "snapshot", market)
    expect_identical(
      put("market", "snapshot", market), c(new = 0, changed = 0, unchanged = 2)
    )
    market$last[1] <- 5
    expect_identical(
      put("market", "snapshot", market), c(new = 0, changed = 1, unchanged = 1)
    )
    expect_identical(archive_rows(store, "quay", "market")$last, c(5, 2))
    expect_identical(
      archive_rows(store, "quay", "market", all = TRUE)$last, c(1, 2, 5, 2)
    )
  })
}
