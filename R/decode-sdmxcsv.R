# SDMX-CSV data messages, with or without labels beside the codes.

# Messages in the most common layout, in one pass; NULL for others.
usual_sdmx_csv <- function(body) {
  end <- grepRaw("\n", body, fixed = TRUE)
  if (!length(end) || end < 2 || end == length(body)) {
    return(NULL)
  }
  signs <- as.integer(body[seq_len(end)])
  head <- if (all(signs > 0 & signs < 128)) {
    sub("\r$", "", rawToChar(body[seq_len(end - 1)]))
  }
  if (is.null(head) || grepl("[;\t|\"']|,$", head)) {
    return(NULL)
  }
  names <- trimws(strsplit(head, ",", fixed = TRUE)[[1]])
  if (length(names) < 2 || !all(nzchar(names)) || anyDuplicated(names)) {
    return(NULL)
  }
  if (body[length(body)] != as.raw(10)) body <- c(body, as.raw(10))
  columns <- table_columns_cpp(
    body, ",", as.integer(names == "OBS_VALUE"), character(), end
  )
  if (!is.null(columns)) list_frame(stats::setNames(columns, names))
}

# Any table of texts.
any_sdmx_csv <- function(body, where) {
  text <- tryCatch(
    rawToChar(body),
    error = function(e) rawToChar(body[body != as.raw(0)])
  )
  # values are read as text too, because the table reader's numbers are not
  # always the nearest doubles
  rows <- other_errors(
    none_dropped(
      data.table::fread(
        text = if (endsWith(text, "\n")) text else paste0(text, "\n"),
        sep = header_separator(text),
        colClasses = "character",
        na.strings = "",
        header = TRUE,
        data.table = FALSE,
        showProgress = FALSE,
        encoding = "UTF-8",
        fill = TRUE
      ),
      where
    ),
    function(e) {
      stop_payload(
        "The answer cannot be read as SDMX-CSV.", where,
        paste0("it begins: ", body_excerpt(body, 80))
      )
    }
  )
  # quotation marks within quotation marks are rare
  if (grepl("\"\"", text, fixed = TRUE, useBytes = TRUE)) {
    rows[] <- lapply(rows, single_quotes)
  }
  rows
}

sdmx_from_csv <- function(body, dimensions, where, measures = "OBS_VALUE") {
  rows <- usual_sdmx_csv(body) %||% any_sdmx_csv(body, where)
  # a blank line at the end is no row
  if (anyNA(rows[[1]])) rows <- rows[!is.na(rows[[1]]), , drop = FALSE]
  # with labels each value is "CODE: label", as are the names
  for (mark in c(": ", ":")) {
    with_label <- grepl(mark, names(rows), fixed = TRUE)
    names(rows) <- sub(paste0(mark, ".*"), "", names(rows))
    for (name in setdiff(
      names(rows)[with_label], c("OBS_VALUE", "TIME_PERIOD", measures)
    )) {
      rows[[name]] <- sub(paste0(mark, ".*"), "", rows[[name]])
    }
  }
  if (!"OBS_VALUE" %in% names(rows) && any(measures %in% names(rows))) {
    rows$OBS_VALUE <- rep(NA_character_, nrow(rows))
  }
  missing <- setdiff(c(dimensions, "OBS_VALUE"), names(rows))
  if (length(missing)) {
    stop_payload(
      if (length(missing) > length(dimensions)) {
        "The answer is no SDMX message."
      } else {
        paste0(
          "The data do not match the structure: the table lacks the column ",
          missing[1], "."
        )
      },
      where,
      paste0(
        "check whether the structure was changed; it begins: ",
        body_excerpt(body, 80)
      )
    )
  }
  n <- nrow(rows)
  action <- rows[["ACTION"]]
  action <- if (is.null(action)) {
    rep(NA_character_, n)
  } else {
    toupper(substr(unique(action), 1, 1))[match(action, unique(action))]
  }
  owner <- row_groups(as.list(rows[dimensions]))
  first <- which(!duplicated(owner))
  others <- setdiff(
    names(rows),
    c(
      "DATAFLOW", "STRUCTURE", "STRUCTURE_ID", "STRUCTURE_NAME", "ACTION",
      dimensions, "TIME_PERIOD", "OBS_VALUE"
    )
  )
  texts <- rows$OBS_VALUE
  value <- if (is.character(texts)) plain_number(texts) else texts
  odd <- which(is.na(value))
  odd <- odd[!is.na(texts[odd]) & texts[odd] != "NaN"]
  # each row has its own action
  obs <- list(
    series = owner,
    time = as.character(rows[["TIME_PERIOD"]] %||% rep(NA_character_, n)),
    value = value,
    action = action
  )
  sdmx_message(
    rows[first, dimensions, drop = FALSE],
    obs,
    as.list(rows[others]),
    data.frame(
      action = if (n) action[1] %||% "I" else NA_character_,
      valid_from = NA_character_,
      valid_to = NA_character_
    ),
    rep(1L, length(first)),
    where,
    dimensions,
    odd = list(row = odd, text = as.character(texts[odd])),
    third = "STRUCTURE" %in% names(rows)
  )
}
