# A series ID is source/dataset/key@frequency. Any unambiguous end of it is
# accepted, * and ? stand for characters of a part, and labels may stand for
# codes.

# Series IDs of a table of series, with the interval of bars in words.
series_id <- function(series) {
  if (!length(series$key)) {
    return(character())
  }
  paste0(
    series$source, "/", series$dataset, "/", series$key,
    ifelse(
      nzchar(series$frequency), paste0("@", frequency_text(series$frequency)),
      ""
    )
  )
}

frequency_text <- function(frequency) {
  known <- unique(frequency)
  text <- vapply(
    known,
    function(code) if (grepl("^P", code)) format(time_interval(code)) else code,
    ""
  )
  unname(text[match(frequency, known)])
}

#' Find series by ID
#'
#' @param archive An archive, see [archive_open()].
#' @param ids Series IDs, one or more: `source/dataset/key@frequency`, or the
#'   end of one that identifies a single series (`KELD@1 minute`,
#'   `kelder-lock`). `*` and `?` match any characters (`quay/bars/*@1 day`,
#'   `basin/LOCK_TRAFFIC/M.ORV.*`), labels stand for codes (`M.Orvane.*`,
#'   `Kelder Lock`), and `source/dataset` for all series of a dataset. `NULL` is
#'   every series.
#' @return A table like that of [archive_series()], with a row per series, in
#'   the order of the IDs.
#' @section Errors: `vetusta_error_argument` for an ID that matches no series,
#'   with the nearest IDs, or that is ambiguous, with its matches.
#' @export
#' @examples
#' archive <- archive_open(tempfile(fileext = ".sqlite"))
#' csv <- system.file("extdata", "keld-days.csv", package = "vetusta")
#' archive_import(archive, csv, symbol = "KELD", interval = "1 day")
#' archive_find(archive, "KELD")
archive_find <- function(archive, ids = NULL) {
  check_archive(archive)
  if (is.null(ids)) {
    return(archive_series(archive))
  }
  check_text(ids, "ids", several = TRUE)
  numbers <- numbers_by_key(archive, ids) %||% series_numbers(archive, ids)
  listed <- series_listed(
    archive, store_series(archive, sizes = TRUE, ids = unique(numbers))
  )
  # a series without rows is not listed
  series_at(
    listed, stats::na.omit(match(unique(numbers), attr(listed, "numbers")))
  )
}

# The series of a whole ID; no rows, or NULL, where there is none.
archive_named <- function(archive, id) {
  # a key with a star is looked for like a pattern
  if (grepl("[*?]", id)) {
    return(archive_find(archive, id))
  }
  numbers <- numbers_by_key(archive, id)
  if (length(numbers)) {
    series_listed(archive, store_series(archive, sizes = TRUE, ids = numbers))
  }
}

# The numbers of series by IDs of any form. The database searches by the text of
# an ID; the whole catalogue is read only where a label may stand for a code, or
# nothing was found.
series_numbers <- function(archive, ids) {
  catalogue <- NULL
  unlist(lapply(ids, function(id) {
    candidates <- id_candidates(archive, id_parts(id)$path)
    if (!length(id_hits(id_parts(id), candidates))) {
      catalogue <<- catalogue %||% store_series_stored(archive)
      candidates <- catalogue
    }
    candidates$id[id_rows(id, candidates, archive)]
  }))
}

# Series that an ID may mean by its text: series whose ID ends with it, with or
# without a side, or all series of that dataset.
id_candidates <- function(archive, path) {
  # the database ignores case in ASCII only, so other letters match any
  # character
  literal <- gsub("[^ -~]", "_", gsub("([!%_])", "!\\1", tolower(path)))
  ends <- if (grepl("[*?]", path)) {
    paste0(
      "%", gsub("?", "_", gsub("*", "%", literal, fixed = TRUE), fixed = TRUE)
    )
  } else {
    c(paste0("%", literal), paste0("%", literal, ":%"))
  }
  store_series_stored(
    archive,
    paste(
      c(
        rep("lower(full_name) LIKE ? ESCAPE '!'", length(ends)),
        "s.dataset = ?", "s.source || '/' || s.dataset = ?"
      ),
      collapse = " OR "
    ),
    as.list(c(ends, path, path))
  )
}

# Names of the series that have rows, or of those that match a condition.
store_series_stored <- function(store, where = NULL, params = NULL) {
  named <- "s.source || '/' || s.dataset || '/' || s.key"
  rows <- c("segments", "moved")
  sql_get(
    store,
    paste0(
      "SELECT s.id, s.source, s.dataset, s.key, s.frequency FROM series s
    WHERE (",
      paste0(
        "EXISTS (SELECT 1 FROM ", rows, " g WHERE g.series = s.id)",
        collapse = " OR "
      ),
      ")",
      if (!is.null(where)) {
        paste0(" AND (", gsub("full_name", named, where, fixed = TRUE), ")")
      },
      " ORDER BY s.source, s.dataset, s.key, s.frequency"
    ),
    params
  )
}

# Rows of a table of series, with their numbers.
series_at <- function(series, rows) {
  structure(
    as_rows(lapply(as.list(series), `[`, rows)),
    numbers = attr(series, "numbers")[rows]
  )
}

# The numbers of series where each ID gives the key of exactly one. NULL where
# an ID is a pattern or ambiguous, so that the whole catalogue is searched.
numbers_by_key <- function(archive, ids) {
  numbers <- lapply(ids, function(id) {
    asked <- id_parts(id)
    if (grepl("[*?]", asked$path)) {
      return(NULL)
    }
    parts <- strsplit(asked$path, "/", fixed = TRUE)[[1]]
    whole <- if (length(parts) > 2) {
      sql_get(
        archive,
        "SELECT id, source, dataset, key, frequency FROM series
        WHERE source = ? AND dataset = ? AND key = ?",
        list(parts[1], parts[2], paste(parts[-(1:2)], collapse = "/"))
      )
    }
    rows <- if (NROW(whole)) id_hits(asked, whole, ways = 1)
    if (length(rows) == 1) {
      return(whole$id[rows])
    }
    ends <- vapply(
      seq_along(parts),
      function(i) paste(parts[i:length(parts)], collapse = "/"), ""
    )
    series <- sql_get(
      archive,
      "SELECT id, source, dataset, key, frequency FROM series
      WHERE key IN @texts OR key LIKE ? ESCAPE '!'",
      list(json_array(ends), paste0("%/", gsub("([!%_])", "!\\1", asked$path)))
    )
    rows <- id_hits(asked, series, ways = 1:2)
    if (length(rows) == 1) series$id[rows]
  })
  if (all(lengths(numbers) == 1)) unlist(numbers)
}

id_rows <- function(id, series, archive) {
  asked <- id_parts(id)
  rows <- id_hits(asked, series)
  if (!length(rows)) {
    rows <- unlist(
      lapply(id_labels(asked$path, series, archive), function(path) {
        id_hits(list(path = path, frequency = asked$frequency), series)
      })
    )
  }
  rows <- unique(rows)
  if (!length(rows)) stop_no_series(id, asked, series)
  whole <- asked$path %in%
    c(paste0(series$source, "/", series$dataset)[rows], series$dataset[rows])
  if (length(rows) > 1 && !whole && !grepl("[*?]", asked$path)) {
    stop_several(id, series[rows, ])
  }
  rows
}

# list(path, frequency): the text after the last @ is the frequency, if it can
# be one.
id_parts <- function(id) {
  at <- regexpr("@[^@/]*$", id)
  if (at < 0) {
    return(list(path = id, frequency = NULL))
  }
  list(path = substr(id, 1, at - 1), frequency = trimws(substring(id, at + 1)))
}

# Series whose ID ends with the path. Of several readings the strictest one with
# a match counts.
id_hits <- function(asked, series, ways = 1:6) {
  path <- asked$path
  full <- paste(series$source, series$dataset, series$key, sep = "/")
  fits <- if (is.null(asked$frequency)) {
    rep(TRUE, nrow(series))
  } else {
    frequency_fits(asked$frequency, series$frequency)
  }
  if (grepl("[*?]", path)) {
    return(
      which(
        fits &
          grepl(
            paste0("(^|/)", path_pattern(path), "$"), full,
            perl = TRUE,
            ignore.case = TRUE
          )
      )
    )
  }
  all_ways <- list(
    function() full == path,
    function() series$key == path | endsWith(full, paste0("/", path)),
    function() {
      tolower(series$key) == tolower(path) |
        endsWith(tolower(full), paste0("/", tolower(path)))
    },
    # all sides of a symbol
    function() {
      sub(":[^:]*$", "", series$key) == path |
        endsWith(sub(":[^:]*$", "", full), paste0("/", path))
    },
    # all series of a dataset
    function() paste0(series$source, "/", series$dataset) == path,
    function() {
      series$dataset == path &
        length(unique(series$source[series$dataset == path])) == 1
    }
  )
  for (way in all_ways[ways]) {
    rows <- which(fits & way())
    if (length(rows)) {
      return(rows)
    }
  }
  integer()
}

# A pattern as a regular expression. A star matches slashes too, because a key
# may contain them.
path_pattern <- function(path) {
  signs <- strsplit(path, "")[[1]]
  special <- !grepl("[[:alnum:] _-]", signs)
  signs[special] <- paste0("\\", signs[special])
  paste(
    ifelse(signs == "\\*", ".*", ifelse(signs == "\\?", ".", signs)),
    collapse = ""
  )
}

# Whether a frequency matches the text: a length of time, a code, or its word.
frequency_fits <- function(text, frequency) {
  iso <- tryCatch(
    time_interval(text)$iso,
    vetusta_error = function(e) NA_character_
  )
  word <- names(frequency_words)[match(tolower(text), frequency_words)]
  frequency %in% c(iso, toupper(text), word)
}

# Paths with labels replaced by codes: dimension labels by codes, names by
# symbols.
id_labels <- function(path, series, archive) {
  parts <- strsplit(path, "/", fixed = TRUE)[[1]]
  last <- parts[length(parts)]
  before <- if (length(parts) > 1) {
    paste0(paste(parts[-length(parts)], collapse = "/"), "/")
  } else {
    ""
  }
  c(
    dimension_labels(before, last, series, archive),
    name_labels(last, series, archive)
  )
}

dimension_labels <- function(before, key, series, archive) {
  datasets <- unique(as.data.frame(series[c("source", "dataset")]))
  datasets <- datasets[
    endsWith(paste0(datasets$source, "/", datasets$dataset, "/"), before),
  ]
  texts <- strsplit(key, ".", fixed = TRUE)[[1]]
  unlist(lapply(seq_len(nrow(datasets)), function(i) {
    lists <- archive_labels(archive, datasets$source[i], datasets$dataset[i])
    # a star at the end stands for all dimensions that follow
    open <- length(texts) < length(lists) && endsWith(key, "*")
    if (!length(lists) || (length(lists) != length(texts) && !open)) {
      return(NULL)
    }
    codes <- Map(code_of_label, texts, lists[seq_along(texts)])
    if (all(lengths(codes) == 1)) {
      paste0(before, paste(unlist(codes), collapse = "."))
    }
  }))
}

# A code or pattern unchanged, or the code of a label.
code_of_label <- function(text, list) {
  if (text %in% list$id || grepl("[*?]", text)) {
    return(text)
  }
  hit <- rep(FALSE, length(list$id))
  for (labels in list$labels) hit <- hit | tolower(labels) %in% tolower(text)
  list$id[hit]
}

# Names of instruments and places stored in the archive.
name_labels <- function(name, series, archive) {
  known <- named_datasets(archive)
  unlist(lapply(seq_len(nrow(known)), function(i) {
    rows <- archive_rows(archive, known$source[i], known$dataset[i])
    if (is.null(rows[["name"]])) {
      return(NULL)
    }
    as.character(rows[[known$column[i]]])[tolower(rows$name) == tolower(name)]
  }))
}

# Datasets whose rows have names, with their key column.
named_datasets <- function(archive) {
  known <- store_datasets(archive)
  known$column <- unname(name_columns[known$shape])
  known[!is.na(known$column), ]
}

name_columns <- c(instruments = "symbol", places = "place")

stop_no_series <- function(id, asked, series) {
  if (!nrow(series)) {
    vetusta_stop(
      "argument", "The archive has no series yet.",
      todo = "collect or import something first"
    )
  }
  # the key may be right and the frequency wrong
  others <- if (!is.null(asked$frequency)) {
    id_hits(list(path = asked$path), series)
  }
  if (length(others)) {
    vetusta_stop(
      "argument",
      paste0(
        "The archive has no ", asked$path, " at \"", asked$frequency, "\"."
      ),
      todo = paste0(
        "it has ",
        paste(utils::head(series_id(series[others, ]), 5), collapse = ", "),
        "; resample those, or collect"
      )
    )
  }
  near <- nearest_ids(asked$path, series)
  vetusta_stop(
    "argument",
    paste0("The archive has no series with the ID \"", id, "\"."),
    todo = if (length(near)) {
      paste0("did you mean ", paste0("\"", near, "\"", collapse = " or "), "?")
    } else {
      "`vetusta list` shows the stored series; collect or import it first"
    }
  )
}

# The most similar series IDs, by the key or the whole ID.
nearest_ids <- function(path, series, most = 3) {
  last <- sub(".*/", "", path)
  full <- paste(series$source, series$dataset, series$key, sep = "/")
  known <- utils::head(unique(series$key), 5000)
  by_key <- utils::adist(tolower(last), tolower(known))[1, ]
  near <- known[order(by_key)][sort(by_key) <= max(2, nchar(last) / 3)]
  # a key that begins with the text is meant more often than a similar one
  if (nchar(last) > 2) {
    begins <- startsWith(tolower(known), tolower(last))
    near <- unique(c(utils::head(known[begins], most), near))
  }
  rows <- unlist(
    lapply(utils::head(near, most), function(key) which(series$key == key))
  )
  if (!length(rows) && grepl("/", path)) {
    known <- tolower(utils::head(full, 5000))
    distance <- utils::adist(tolower(path), known)[1, ]
    rows <- which(
      distance == min(distance) & distance <= max(3, nchar(path) / 3)
    )
  }
  utils::head(series_id(series[unique(rows), ]), most)
}

stop_several <- function(id, series) {
  shown <- utils::head(series_id(series), 6)
  vetusta_stop(
    "argument",
    paste0("The series ID \"", id, "\" means ", nrow(series), " series."),
    todo = paste0(
      "name one of them, or use a pattern: ", paste(shown, collapse = ", "),
      if (nrow(series) > 6) " and more"
    )
  )
}
