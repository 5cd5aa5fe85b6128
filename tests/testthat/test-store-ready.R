# Prepared statements work like others: after one that failed, within
# transactions, beside another process, and at the end.

level_page <- function(key, time, value = time) {
  rows <- list(
    time = vetusta:::utc(time),
    known = vetusta:::utc(time + 1),
    value = value
  )
  list(
    source = "river",
    dataset = "levels",
    shape = "observations",
    now = max(time) + 1,
    journal = list(
      run = "r", asked = 1, rows = length(time), outcome = "stored",
      source = "river", dataset = "levels"
    ),
    rows = vetusta:::parcel_series(
      data.frame(
        key = key,
        frequency = "D",
        dimensions = sprintf("{\"series\":\"%s\"}", key)
      ),
      rows
    )
  )
}
# These belong to SQLite, whichever store the other tests use.
new_archive <- function(env = parent.frame()) {
  archive <- archive_open(
    withr::local_tempfile(fileext = ".sqlite", .local_envir = env)
  )
  withr::defer(archive_close(archive), envir = env)
  archive
}
same_archive <- function(archive, env = parent.frame()) {
  other <- archive_open(archive$path)
  withr::defer(archive_close(other), envir = env)
  other
}
held_files <- function(path) {
  open <- suppressWarnings(
    Sys.readlink(list.files("/proc/self/fd", full.names = TRUE))
  )
  sum(open %in% paste0(path, c("", "-wal", "-shm")))
}
ready_count <- function(archive) {
  sum(vapply(as.list(archive$ready), is.list, TRUE))
}

test_that("a prepared statement gives equal results every time", {
  archive <- new_archive()
  for (i in 1:20) {
    key <- paste0("n", i)
    vetusta:::store_note(
      archive, "k", "river", "levels", key, value = letters[i], at = i
    )
    found <- vetusta:::store_notes(archive, "k", "river", "levels", key)
    expect_identical(
      found, data.frame(key = key, at = as.numeric(i), value = letters[i])
    )
    expect_identical(
      nrow(vetusta:::store_notes(archive, "k", "river", "levels", "none")), 0L
    )
    expect_identical(vetusta:::store_claim(archive, paste0("c", i), 0), "ours")
  }
  expect_gt(ready_count(archive), 1)
  # a missing value first, then a number
  vetusta:::store_note(archive, "k", "river", "levels", "empty", at = 1)
  expect_identical(
    vetusta:::store_notes(archive, "k", "river", "levels", "empty")$value,
    NA_character_
  )
  expect_identical(
    vetusta:::store_notes(archive, "k", "river", "levels", "n3")$value, "c"
  )
})

test_that("an overlapping page fails and leaves nothing", {
  archive <- new_archive()
  for (i in 1:12) {
    vetusta:::store_put(archive, level_page("a", 86400 * (10 * i + 0:4)))
    # the fast path refuses this one, the general path takes it
    vetusta:::store_put(
      archive, level_page("a", 86400 * (10 * i + 3:6), value = 1:4)
    )
  }
  id <- vetusta:::store_series(archive)$id
  rows <- vetusta:::store_read(archive, id)$columns
  expect_identical(
    as.numeric(rows$time), 86400 * as.numeric(rep(10 * (1:12), each = 7) + 0:6)
  )
  expect_identical(rows$value[5:7], c(2, 3, 4))
  expect_identical(nrow(vetusta:::store_journal(archive)), 24L)
})

test_that("within a transaction that is not to be, nothing stays", {
  archive <- new_archive()
  for (i in 1:6) vetusta:::store_claim(archive, paste0("c", i), 0)
  expect_error(
    vetusta:::store_transaction(archive, function() {
      expect_identical(vetusta:::store_claim(archive, "within", 0), "ours")
      vetusta:::vetusta_stop("archive", "no", todo = "nothing")
    }),
    class = "vetusta_error_archive"
  )
  other <- same_archive(archive)
  expect_identical(vetusta:::store_claim(other, "within", 0), "ours")
})

test_that("a statement that ends early locks nothing", {
  archive <- new_archive()
  statement <- "SELECT abs(value) AS size FROM json_each(?)"
  for (i in 1:6) {
    expect_identical(
      vetusta:::sql_get(archive, statement, list("[-2, 3]"), often = TRUE)$size,
      2:3
    )
  }
  # the second value has no positive counterpart
  for (i in 1:2) {
    expect_error(
      vetusta:::sql_get(
        archive, statement, list("[1, -9223372036854775808]"), often = TRUE
      ),
      class = "vetusta_error_archive"
    )
  }
  vetusta:::store_claim(archive, "c", 0)
  other <- same_archive(archive)
  expect_identical(
    DBI::dbGetQuery(other$connection, "PRAGMA wal_checkpoint(TRUNCATE)")$busy,
    0L
  )
  expect_identical(
    vetusta:::sql_get(archive, statement, list("[-4]"), often = TRUE)$size, 4L
  )
})

test_that("closing leaves no open file", {
  skip_if_not(dir.exists("/proc/self/fd"))
  path <- tempfile(fileext = ".sqlite")
  archive <- archive_open(path)
  for (i in 1:10) {
    vetusta:::store_claim(archive, paste0("c", i), 0)
    vetusta:::store_notes(archive, "k", "river", "levels", "n")
  }
  # many different ones do not take a file each
  for (i in 1:30) {
    for (k in 1:5) {
      vetusta:::sql_get(
        archive, paste("SELECT ? AS x,", i, "AS y"), list(1), often = TRUE
      )
    }
  }
  expect_lte(ready_count(archive), 12)
  expect_no_warning(archive_close(archive))
  expect_identical(held_files(path), 0L)
  expect_false(any(file.exists(paste0(path, c("-wal", "-shm")))))
})

test_that("an archive that is opened for reading alone is only read", {
  path <- tempfile(fileext = ".sqlite")
  archive_close(archive_open(path))
  archive <- archive_open(path, read_only = TRUE)
  withr::defer(archive_close(archive))
  for (i in 1:8) vetusta:::store_notes(archive, "k", "river", "levels", "n")
  expect_identical(ready_count(archive), 0L)
})

test_that("where no other connection can be made the main one does", {
  archive <- new_archive()
  path <- archive$path
  archive$path <- file.path(path, "nowhere.sqlite")
  for (i in 1:8) {
    expect_identical(vetusta:::store_claim(archive, paste0("c", i), 0), "ours")
  }
  expect_identical(ready_count(archive), 0L)
  archive$path <- path
})

test_that("quick counts equal those of a comparison", {
  set.seed(8)
  draw <- function(n, from) {
    time <- vetusta:::utc(
      sort(sample(from + 0:11, n, replace = stats::runif(1) < 0.2))
    )
    list(
      time = time,
      known = vetusta:::utc(sample(c(5, 50, 90), n, TRUE)),
      value = sample(c(1, 2, NA), n, TRUE, c(8, 1, 1)),
      status = sample(
        c("observed", "estimated", "deleted"), n, TRUE, c(18, 1, 1)
      )
    )
  }
  told <- 0
  for (i in 1:4000) {
    old <- draw(sample(1:6, 1), 0)
    new <- draw(sample(1:6, 1), sample(0:8, 1))
    # mostly stored rows, again
    at <- match(new$time, old$time)
    if (stats::runif(1) < 0.8) {
      new$value[!is.na(at)] <- old$value[stats::na.omit(at)]
      new$status[!is.na(at)] <- old$status[stats::na.omit(at)]
    }
    if (stats::runif(1) < 0.3) old$status <- new$status <- NULL
    quick <- vetusta:::counts_behind(
      old, new, as.numeric(new$time) > max(as.numeric(old$time))
    )
    if (!is.null(quick)) {
      told <- told + 1
      expect_identical(quick, vetusta:::merge_history(old, new, 100)$counts)
    }
  }
  expect_gt(told, 200)
})
