# Rows of a kept page as they were sent, by their places.

# By JSON Pointer (RFC 6901) as compact JSON, lines of CSV, elements of XML, and
# observations of SDMX. NA for other places.
rows_as_sent <- function(body, places) {
  out <- rep(NA_character_, length(places))
  text <- tryCatch(enc2utf8(rawToChar(body)), error = function(e) "")
  number <- suppressWarnings(as.numeric(sub("^.* ", "", places)))
  pattern <- "^.*(member|line|observation) [0-9]+$"
  what <- ifelse(
    startsWith(places, "/") & !grepl(pattern, places), "pointer",
    ifelse(grepl(pattern, places), sub(pattern, "\\1", places), "other")
  )
  put <- function(word, read) {
    at <- which(what == word)
    if (length(at)) out[at] <<- read(places[at], number[at])
  }
  if (grepl("^\\s*[{[]", text)) {
    content <- if (any(what != "other")) {
      tryCatch(
        jsonlite::fromJSON(
          text,
          simplifyVector = FALSE, bigint_as_char = TRUE
        ),
        error = function(e) NULL
      )
    }
    put("pointer", function(places, number) {
      vapply(places, function(place) {
        json_as_sent(json_member(content, place))
      }, "")
    })
    put("member", function(places, number) {
      vapply(seq_along(places), function(i) {
        holder <- json_member(content, sub(", member [0-9]+$", "", places[i]))
        json_as_sent(if (is.list(holder)) holder[number[i]])
      }, "")
    })
    put("observation", function(places, number) {
      observations_as_sent(content, number)
    })
    put("line", function(places, number) {
      strsplit(text, "\r?\n")[[1]][number]
    })
  } else if (grepl("^\\s*<", text)) {
    put("observation", function(places, number) {
      elements_as_sent(body, number)
    })
  } else if (nzchar(text)) {
    put("line", function(places, number) lines_as_sent(text, number))
    put("observation", function(places, number) {
      # the first observation stands below the header
      starts <- row_starts(strsplit(text, "\r?\n")[[1]])
      lines_as_sent(text, starts[number + 1])
    })
  }
  out
}

# NULL where there is none.
json_member <- function(content, place) {
  keys <- strsplit(sub("^/", "", place), "/", fixed = TRUE)[[1]]
  keys <- gsub("~0", "~", gsub("~1", "/", keys, fixed = TRUE), fixed = TRUE)
  for (key in keys) {
    if (nzchar(key) && is.null(names(content))) key <- as.numeric(key) + 1
    content <- tryCatch(content[[key]], error = function(e) NULL)
  }
  content
}

json_as_sent <- function(value) {
  if (is.null(value)) {
    return(NA_character_)
  }
  as.character(
    jsonlite::toJSON(value, auto_unbox = TRUE, digits = NA, null = "null")
  )
}

# A row of CSV, which goes on while a quotation mark is open.
lines_as_sent <- function(text, number) {
  lines <- strsplit(text, "\r?\n")[[1]]
  starts <- row_starts(lines)
  ends <- c(starts[-1] - 1, length(lines))[match(number, starts)]
  vapply(seq_along(number), function(i) {
    if (is.na(ends[i])) {
      NA_character_
    } else {
      sub("\n+$", "", paste(lines[number[i]:ends[i]], collapse = "\n"))
    }
  }, "")
}

elements_as_sent <- function(body, number) {
  elements <- tryCatch(
    xml2::xml_find_all(
      xml2::read_xml(body, options = "HUGE"), "//*[local-name() = 'Obs']"
    ),
    error = function(e) list()
  )
  vapply(number, function(i) {
    if (i > length(elements)) NA_character_ else as.character(elements[[i]])
  }, "")
}

# Observations of SDMX-JSON under their keys, as {"0:1":{"3":[102.4]}}, or
# {"0:1:3":[102.4]} where they are not in series.
observations_as_sent <- function(content, number) {
  content <- content[["data"]] %||% content
  parts <- unlist(lapply(content[["dataSets"]], function(set) {
    set[["series"]] %||% list(list(observations = set[["observations"]]))
  }), recursive = FALSE)
  counts <- lengths(lapply(unname(parts), `[[`, "observations"))
  ends <- cumsum(counts)
  vapply(number, function(i) {
    part <- which(ends >= i)[1]
    if (is.na(part)) {
      return(NA_character_)
    }
    found <- parts[[part]]$observations[i - (ends - counts)[part]]
    key <- names(parts)[part]
    if (length(key) && nzchar(key)) {
      found <- stats::setNames(list(found), key)
    }
    json_as_sent(found)
  }, "")
}
