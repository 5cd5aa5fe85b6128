# Where stored rows came from. A page that stores rows of series has one entry
# in `origins`: its journal row, the hash of its body, and the rows it gave, as
# ranges. Of all entries whose range holds a row, the newest gave it: a range
# ends where a row of another page lies between. The place of rows in the
# answer is a text as "/bars/|0-499", "row |1-500" or "line |501-2": a base and
# the numbers of the first and last row, in order of time; rows scattered over
# the answer have the steps between them.

# Numbers as ranges: "0-499", "499-0", "0-1,3-4", with a step "0-90:10"; where
# they are many, as differences, see number_steps(). NA where one is not known.
number_ranges <- function(at) {
  n <- length(at)
  if (!n || anyNA(at)) {
    return(NA_character_)
  }
  if (n == 1) {
    return(paste0(at, "-", at))
  }
  step <- at[-1] - at[-n]
  if (all(step == step[1]) && abs(step[1]) == 1) {
    return(paste0(at[1], "-", at[n]))
  }
  runs <- rle(step)
  if (length(runs$lengths) > 2 * ranges_most || any(step == 0)) {
    return(paste0("z", packed_text(number_steps(at))))
  }
  parts <- character()
  last <- cumsum(runs$lengths) + 1
  used <- 0
  for (k in seq_along(last)) {
    first <- max(used + 1, last[k] - runs$lengths[k])
    # a number alone begins the next run
    if (first >= last[k] && k < length(last)) next
    pace <- if (first == last[k] || abs(runs$values[k]) == 1) {
      ""
    } else {
      paste0(":", abs(runs$values[k]))
    }
    parts <- c(parts, paste0(at[first], "-", at[last[k]], pace))
    used <- last[k]
  }
  if (length(parts) > ranges_most) {
    return(paste0("z", packed_text(number_steps(at))))
  }
  paste0(parts, collapse = ",")
}

ranges_most <- 12

# Numbers as the first and the steps to the next: "+3 1 -2".
number_steps <- function(at) {
  paste0("+", paste(c(at[1], diff(at)), collapse = " "))
}

packed_text <- function(text) {
  jsonlite::base64_enc(memCompress(charToRaw(text), "gzip"))
}

ranges_numbers <- function(text) {
  if (is.na(text)) {
    return(numeric())
  }
  if (startsWith(text, "z")) {
    packed <- jsonlite::base64_dec(sub("^z", "", text))
    text <- rawToChar(memDecompress(packed, "gzip"))
  }
  if (startsWith(text, "+")) {
    steps <- strsplit(sub("+", "", text, fixed = TRUE), " ", fixed = TRUE)[[1]]
    return(cumsum(as.numeric(steps)))
  }
  unlist(lapply(strsplit(text, ",", fixed = TRUE)[[1]], function(part) {
    ends <- as.numeric(strsplit(part, "[-:]")[[1]])
    step <- if (length(ends) > 2) ends[3] else 1
    seq(ends[1], ends[2], by = if (ends[2] < ends[1]) -step else step)
  }))
}

# The place of rows; the base of JSON counts from 0, others from 1.
origin_place <- function(origin, at) {
  if (is.null(origin$base)) {
    return(NA_character_)
  }
  ranges <- number_ranges(if (endsWith(origin$base, "/")) at - 1 else at)
  if (is.na(ranges)) NA_character_ else paste0(origin$base, "|", ranges)
}

# The number in the answer of each row of a page; NA where unknown.
origin_numbers <- function(page, n) {
  came <- length(page$rows$rows$time)
  if (!identical(as.integer(page$origin$rows), came)) {
    return(rep(NA_integer_, n))
  }
  (page$origin$at %||% seq_len(came))[seq_len(n)]
}

# The numbers of `rows` in the answer, from those of the rows that came: by
# time, and where a time came several times by the stated instant.
origin_rows <- function(rows, came, at) {
  wanted <- as.numeric(rows$time)
  time <- whole_micros(as.numeric(came$time))
  if (identical(time, wanted)) {
    return(at)
  }
  if (!anyDuplicated(time)) {
    return(at[match(wanted, time)])
  }
  stated <- came$known %||% rep(NA_real_, length(time))
  stated <- whole_micros(as.numeric(stated))
  place <- match_pairs(wanted, as.numeric(rows$known), time, stated)
  # which of several equal ones is stored is not known
  first <- match_pairs(time, stated, time, stated)
  place[place %in% first[duplicated(first)]] <- NA
  at[place]
}

# What a page of one series adds to the statement that writes it. `all`: `rows`
# are all that came, in their order.
origin_values <- function(page, rows, all = FALSE) {
  came <- page$rows$rows
  n <- length(came$time)
  origin <- page$origin
  usual <- all && is.null(origin$at) && isTRUE(origin$rows == n)
  place <- if (usual && !is.null(origin$base)) {
    # numbered in order, without a look at each row
    first <- if (endsWith(origin$base, "/")) 0L else 1L
    paste0(origin$base, "|", first, "-", n - 1L + first)
  } else {
    origin_place(origin, origin_rows(rows, came, origin_numbers(page, n)))
  }
  list(rows_at = place, hash = origin$hash %||% NA_character_)
}

# Ranges of the rows of one series that came with a page, in its history:
# `came` says which.
origin_ranges <- function(rows, came) {
  n <- length(rows$time)
  if (!any(came)) {
    return(NULL)
  }
  starts <- which(came & !c(FALSE, came[-n]))
  ends <- which(came & !c(came[-1], FALSE))
  time <- as.numeric(rows$time)
  known <- known_order(rows$known %||% rep(NA_real_, n))
  # a range of whole times needs no instants
  whole <- all(
    c(TRUE, time[-1] != time[-n])[starts] & c(time[-n] != time[-1], TRUE)[ends]
  )
  list(
    time = time[starts], last = time[ends],
    known = if (whole) rep(NA_real_, length(starts)) else known[starts],
    last_known = if (whole) rep(NA_real_, length(ends)) else known[ends],
    rows = Map(seq, starts, ends)
  )
}

# Writes the entry of a page: `parts` is a list of series (its number), and
# ranges of rows as origin_ranges() gives them, with `at`.
sql_put_origin <- function(store, page, journal, parts) {
  if (!length(parts) || is.na(journal)) {
    return(invisible())
  }
  count <- vapply(parts, function(part) length(part$time), 1L)
  joined <- function(name) unlist(lapply(parts, `[[`, name), use.names = FALSE)
  lone <- length(parts) == 1 && count == 1 && is.na(parts[[1]]$known)
  values <- list(
    journal = journal,
    series = if (lone) parts[[1]]$series else NA_real_,
    first = min(joined("time")),
    last = max(joined("last")),
    place = if (lone) {
      origin_place(page$origin, parts[[1]]$at[[1]])
    } else {
      page$origin$base %||% NA_character_
    },
    hash = page$origin$hash %||% NA_character_
  )
  runs <- if (!lone) {
    at <- unlist(lapply(parts, `[[`, "at"), recursive = FALSE)
    zero <- endsWith(page$origin$base %||% "", "/")
    ends <- vapply(at, function(x) {
      n <- length(x)
      step <- x[-1] - x[-n]
      if (anyNA(x) || any(step != step[1]) || 0 %in% step) {
        return(c(NA_real_, NA_real_, NA_real_))
      }
      c(x[1] - zero, x[n] - zero, if (n > 1) abs(step[1]) else 1)
    }, c(0, 0, 0))
    # rows without one step between them have each its own
    uneven <- which(is.na(ends[1, ]) & !vapply(at, anyNA, TRUE))
    steps <- rep(NA_character_, length(at))
    steps[uneven] <- vapply(
      at[uneven], function(x) number_steps(x - zero), ""
    )
    block_write(
      c(
        list(
          time = utc(joined("time")), last = joined("last"),
          since = joined("known"), until = joined("last_known"),
          series = rep(
            vapply(parts, function(part) part$series, 0), count
          ),
          from = ends[1, ], to = ends[2, ], step = ends[3, ]
        ),
        if (length(uneven)) list(steps = steps)
      )
    )
  }
  sql_do(
    store,
    "INSERT INTO origins (journal, series, first, last, place, hash, runs)
    VALUES (?, ?, ?, ?, ?, ?, ?)",
    c(unname(values), list(list(runs)))
  )
}

# Rows that are not of a series, by the instant of their version.
sql_put_version <- function(store, page, journal) {
  if (is.na(journal)) {
    return(invisible())
  }
  sql_do(
    store,
    "INSERT INTO origins (journal, first, last, place, hash)
    VALUES (?, ?, ?, ?, ?)",
    list(
      journal, page$now, page$now, page$origin$base %||% NA_character_,
      page$origin$hash %||% NA_character_
    )
  )
}

# The entries that may have given rows of a series between two times: a list of
# ranges, oldest first, each of entry, journal, hash, place, and time and known
# of its ends.
store_origins <- function(store, series, first, last) {
  found <- sql_get(
    store,
    "SELECT o.id, o.journal, o.first, o.last, o.place, o.hash, o.runs
      FROM origins o WHERE o.series = ? AND o.first <= ? AND o.last >= ?
    UNION ALL SELECT o.id, o.journal, o.first, o.last, o.place, o.hash, o.runs
      FROM origins o JOIN journal j ON j.id = o.journal
      WHERE o.series IS NULL AND o.runs IS NOT NULL AND o.first <= ? AND
      o.last >= ? AND j.source = ? AND j.dataset = ? ORDER BY 1",
    list(
      series$id, last, first, last, first, series$source, series$dataset
    )
  )
  parts <- lapply(seq_len(nrow(found)), function(i) {
    one <- found[i, ]
    about <- list_frame(
      list(entry = one$id, journal = one$journal, hash = one$hash)
    )
    if (is.null(one$runs[[1]])) {
      return(
        cbind(
          about,
          first = one$first, last = one$last, since = -Inf, until = Inf,
          place = one$place
        )
      )
    }
    runs <- blocks_read(one$runs)$columns
    mine <- which(runs$series == series$id)
    if (!length(mine)) {
      return(NULL)
    }
    pick <- function(name, absent) {
      values <- (runs[[name]] %||% rep(absent, length(runs$series)))[mine]
      ifelse(is.na(values), absent, values)
    }
    from <- pick("from", NA_real_)
    steps <- pick("steps", NA_character_)
    cbind(
      about,
      first = as.numeric(runs$time)[mine], last = runs$last[mine],
      since = pick("since", -Inf), until = pick("until", Inf),
      place = ifelse(
        (is.na(from) & is.na(steps)) | is.na(one$place), NA_character_,
        paste0(one$place, "|", ifelse(
          is.na(from), steps,
          paste0(from, "-", pick("to", NA_real_), ":", pick("step", 1))
        ))
      )
    )
  })
  do.call(rbind, parts)
}
