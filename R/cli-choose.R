# A chooser for selections of statistics: dimension by dimension, on a terminal.

cli_choose <- function(about, options) {
  if (!cli_can_ask()) cli_usage_error("--choose needs a terminal")
  if (is.null(about$dimensions)) {
    cli_usage_error("--choose is for statistics; ", about$id, " has keys")
  }
  dimensions <- about$dimensions[about$dimensions$role != "time", ]
  words <- character()
  for (i in seq_len(nrow(dimensions))) {
    id <- dimensions$id[i]
    list <- about$codes[[id]]
    if (!is.null(about$available[[id]])) {
      kept <- list$id %in% about$available[[id]]
      list <- list(id = list$id[kept], labels = lapply(list$labels, `[`, kept))
    }
    # a dimension of one code needs no question
    if (length(list$id) == 1) next
    cat(choose_lines(dimensions$title[i], list), sep = "\n")
    codes <- choose_codes(id, list, about)
    if (length(codes)) {
      words <- c(words, paste0(id, "=", paste(codes, collapse = ",")))
    }
  }
  from <- cli_question("from which period?", "the beginning")
  quoted <- grepl("[^A-Za-z0-9_=,.+-]", words)
  words[quoted] <- shQuote(words[quoted])
  cat(
    "", paste(
      c(
        "vetusta collect", options$words, words,
        if (from != "the beginning") paste("--from", from)
      ),
      collapse = " "
    ),
    sep = "\n"
  )
}

choose_lines <- function(title, list, most = 30) {
  labels <- label_columns(list)
  number <- formatC(seq_along(list$id), width = nchar(length(list$id)))
  lines <- paste0(
    "  ", number, "  ", formatC(list$id, width = -max(nchar(list$id))), "  ",
    labels
  )
  c(
    "", title, utils::head(lines, most),
    if (length(lines) > most) {
      paste0("  and ", length(lines) - most, " more: give their codes or words")
    }
  )
}

label_columns <- function(list) {
  vapply(seq_along(list$id), function(i) {
    label_in(lapply(list$labels, `[`, i), "en") %|na|% ""
  }, "")
}

# Numbers of the list, codes, labels or patterns, with commas; asked again after
# a wrong word.
choose_codes <- function(id, list, about) {
  repeat {
    answer <- cli_question(
      "numbers, codes or words, with commas", "all"
    )
    if (answer == "all") {
      return(NULL)
    }
    parts <- trimws(strsplit(answer, ",", fixed = TRUE)[[1]])
    place <- suppressWarnings(as.integer(parts))
    numbered <- !is.na(place) & place %in% seq_along(list$id) &
      !parts %in% list$id
    parts[numbered] <- list$id[place[numbered]]
    codes <- tryCatch(
      match_codes(parts, id, about),
      vetusta_error_argument = function(e) {
        cat(e$what, " ", e$todo, "\n", sep = "", file = stderr())
        NULL
      }
    )
    if (length(codes)) {
      return(codes)
    }
  }
}
