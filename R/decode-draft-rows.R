# The rows of a sample: members, their types, and how pages follow each other.

draft_single <- function(x) {
  only <- if (length(x) == 1 && is_object(x[[1]])) names(x) else NULL
  data.frame(
    at = if (is.null(only)) "" else paste0("/", only),
    rows = 1,
    form = "one",
    within = "",
    inner = ""
  )
}

draft_at <- function(x, pointer) {
  for (key in strsplit(substring(pointer, 2), "/", fixed = TRUE)[[1]]) {
    key <- gsub("~0", "~", gsub("~1", "/", key, fixed = TRUE), fixed = TRUE)
    x <- if (is.null(names(x))) {
      if (as.integer(key) < length(x)) x[[as.integer(key) + 1]]
    } else {
      x[[key]]
    }
  }
  x
}

# All members of the rows, including nested ones, with their values; a member
# missing from a row is optional.
draft_members <- function(rows) {
  flat <- lapply(
    rows, function(row) unlist(draft_flat(row, ""), recursive = FALSE)
  )
  names <- unique(unlist(lapply(flat, names)))
  lapply(stats::setNames(names, names), function(name) {
    values <- lapply(flat, `[[`, name)
    there <- vapply(
      values, function(value) length(value) == 1 && !is.na(value), TRUE
    )
    list(values = unlist(values[there]), optional = !all(there))
  })
}

draft_flat <- function(row, at) {
  parts <- lapply(names(row), function(name) {
    here <- paste0(at, "/", name)
    if (is.list(row[[name]]) && length(names(row[[name]]))) {
      draft_flat(row[[name]], here)
    } else if (!is.list(row[[name]])) {
      stats::setNames(list(stats::setNames(list(row[[name]]), here)), NULL)
    }
  })
  do.call(c, parts)
}

# Names of members that may be instants; other large numbers are numbers.
instant_names <- paste0(
  "(^|_)(t|ts|at|on|time|times|date|day|epoch|when|stamp|timestamp|datetime|",
  "asof|since|until|from|to|begins?|starts?|ends?|open(ed)?|closed?|",
  "updated|created)($|_)|",
  "(time|date|day|stamp|epoch|_ts|_at|[a-z]At)$|^(0|[a-z]|column_?0)$"
)

# Names of members with years, months or quarters.
period_names <- paste0(
  "^(period|time|date|year|month|quarter|(time|ref|obs)_?(period|date|time)|",
  "jahr|annee|ano|anno|periode|periodo)$"
)

# The type of a member's values. `name` is its last part; `sure` says that no
# other type fits.
draft_type <- function(values, name = "t") {
  text <- as.character(values)
  number <- suppressWarnings(as.numeric(text))
  if (!length(text)) {
    return("text")
  }
  if (is.logical(values) || all(tolower(text) %in% c("true", "false"))) {
    return("flag")
  }
  if (all(grepl("^(19|20)[0-9]{2}(-?[QM][0-9]{1,2}|-[01][0-9])$", text)) ||
    (grepl(period_names, name, ignore.case = TRUE) &&
      all(grepl("^(19|20)[0-9]{2}$", text)))) {
    return("period")
  }
  if (grepl(instant_names, name, ignore.case = TRUE) &&
    all(grepl("^(19|20)[0-9]{6}$", text)) &&
    !anyNA(as.Date(text, "%Y%m%d"))) {
    return("day, written: \"%Y%m%d\"")
  }
  if (!anyNA(number)) {
    scale <- c(
      "epoch-s" = 1, "epoch-ms" = 1e3, "epoch-us" = 1e6, "epoch-ns" = 1e9
    )
    # instants from 1990 to 2100, whole and of one magnitude
    fits <- vapply(
      scale,
      function(s) {
        all(number / s > 6.3e8 & number / s < 4.1e9 & number == round(number))
      },
      TRUE
    )
    named <- grepl(instant_names, name, ignore.case = TRUE)
    return(if (any(fits) && named) names(scale)[fits][1] else "number")
  }
  if (!anyNA(read_number(text))) {
    return("number")
  }
  if (all(grepl("^[-+]?[0-9]{1,3}([. ]?[0-9]{3})*,[0-9]+$", text))) {
    return("decimal comma")
  }
  if (all(grepl("^[+-]?[0-9.]+%$", text))) {
    return("percent")
  }
  if (!anyNA(read_day(text))) {
    return("day")
  }
  spelled <- draft_spelled_day(text) %||% draft_spelled_instant(text) %||%
    draft_month_names(text)
  if (!is.null(spelled)) {
    return(spelled)
  }
  if (all(grepl("T", text)) && !anyNA(read_rfc3339(text))) {
    return(
      if (all(grepl("(Z|[+-][0-9]{2}:?[0-9]{2})$", text))) {
        "rfc3339"
      } else {
        "local"
      }
    )
  }
  if (!anyNA(read_rfc3339(sub(" ", "T", text, fixed = TRUE)))) {
    return("local")
  }
  "text"
}

draft_paging <- function(samples) {
  if (!samples[[1]]$format %in% c("json", "xml", "wrapped-json")) {
    return(
      paste0(
        "    # next_page: {by: none}               # ? all rows in a ",
        "single answer"
      )
    )
  }
  tops <- lapply(
    samples,
    function(sample) unlist(draft_tops(sample$content, ""), recursive = FALSE)
  )
  names <- unique(unlist(lapply(tops, names)))
  value <- function(name) unlist(lapply(tops, `[[`, name))
  absent <- function(name) {
    any(
      vapply(
        tops, function(top) is.null(top[[name]]) || identical(top[[name]], ""),
        TRUE
      )
    )
  }
  word <- function(pattern) names[grepl(pattern, names, ignore.case = TRUE)]
  urls <- Filter(
    function(name) {
      is.character(value(name)) &&
        all(grepl("^(https?://|/|[?])", value(name)[nzchar(value(name))]))
    },
    word("next|more|following|continue")
  )
  if (length(urls)) {
    return(
      paste0(
        "    next_page: {by: url, at: ", urls[1], "}",
        if (absent(urls[1])) "      # absent on the last page"
      )
    )
  }
  cursors <- word("cursor|next|continuation|token|marker")
  if (length(cursors)) {
    return(
      paste0(
        "    next_page: {by: cursor, at: ", cursors[1],
        ", send: cursor}   # ? the parameter's name"
      )
    )
  }
  pages <- word("^(.*/)?(pages|total_?pages|page_?count|last_?page)$")
  if (length(pages)) {
    return(
      paste0(
        "    next_page: {by: page, send: page, pages: ", pages[1],
        "}   # ? the parameter's name"
      )
    )
  }
  total <- word("total|count$")
  if (length(total)) {
    return(
      paste0(
        "    next_page: {by: offset, send: offset, total: ", total[1],
        "}   # ? the parameter's name"
      )
    )
  }
  paste0(
    "    # next_page: {by: none}               # ? the samples do not ",
    "show how pages follow"
  )
}

draft_tops <- function(x, at) {
  if (is.null(names(x))) {
    # a pair of a head and rows
    pair <- is.list(x) && length(x) %in% 2:3 && is_object(x[[1]]) &&
      !is_object(x[[2]])
    return(if (pair) draft_tops(x[[1]], paste0(at, "/0")))
  }
  do.call(
    c,
    lapply(names(x), function(name) {
      here <- paste0(at, "/", name)
      if (is.list(x[[name]])) {
        draft_tops(x[[name]], here)
      } else if (length(x[[name]]) == 1) {
        list(stats::setNames(list(x[[name]]), here))
      }
    })
  )
}

draft_head <- function(name, call = NULL) {
  c(
    "# A draft: what is marked with \"# ?\" was guessed from the samples.",
    paste0("source: ", name), "title: ",
    call$url %||% "url: https://data.example.org   # ? where the API is",
    call$access %||%
      paste0(
        "access: {by: none}                   # ? query, path, header, ",
        "bearer, basic, pair, token, login, form-login or signature; name the ",
        "secret, never ",
        "write it here"
      ),
    "limits: [60 per minute]              # ? what the API's terms say"
  ) |>
    sub(pattern = "^title: $", replacement = paste0("title: ", name))
}
