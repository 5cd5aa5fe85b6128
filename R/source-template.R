# URI Templates (RFC 6570), all four levels: {var}, {+var}, {#var}, {.var},
# {/var}, {;var}, {?var}, {&var}, with :n and *.

template_operators <- list(
  "none" = list(
    first = "", between = ",", named = FALSE, empty = "", reserved = FALSE
  ),
  "+" = list(
    first = "", between = ",", named = FALSE, empty = "", reserved = TRUE
  ),
  "#" = list(
    first = "#", between = ",", named = FALSE, empty = "", reserved = TRUE
  ),
  "." = list(
    first = ".", between = ".", named = FALSE, empty = "", reserved = FALSE
  ),
  "/" = list(
    first = "/", between = "/", named = FALSE, empty = "", reserved = FALSE
  ),
  ";" = list(
    first = ";", between = ";", named = TRUE, empty = "", reserved = FALSE
  ),
  "?" = list(
    first = "?", between = "&", named = TRUE, empty = "=", reserved = FALSE
  ),
  "&" = list(
    first = "&", between = "&", named = TRUE, empty = "=", reserved = FALSE
  )
)

# `values` is a named list of texts; NULL or missing values are left out.
template_expand <- function(template, values) {
  pieces <- template_pieces(template)
  for (i in seq_along(pieces)) {
    if (is.list(pieces[[i]])) {
      pieces[[i]] <- expand_expression(pieces[[i]], values)
    }
  }
  paste(pieces, collapse = "")
}

# The parts of a template: encoded text and expressions. They are cached,
# because all requests share them.
template_pieces <- function(template) {
  if (!nzchar(template)) {
    return(list(""))
  }
  known <- remembered_templates[[template]]
  if (!is.null(known)) {
    return(known)
  }
  texts <- regmatches(
    template, gregexpr("\\{[^{}]*\\}", template),
    invert = NA
  )[[1]]
  pieces <- lapply(texts, function(text) {
    if (grepl("^\\{.*\\}$", text)) {
      template_expression(text)
    } else {
      encode_reserved(text)
    }
  })
  assign(template, pieces, envir = remembered_templates)
  pieces
}

remembered_templates <- new.env(parent = emptyenv())
remembered_variables <- new.env(parent = emptyenv())

# list(operator, variables), each variable with its name, its prefix and whether
# it is exploded.
template_expression <- function(text) {
  body <- substr(text, 2, nchar(text) - 1)
  sign <- substr(body, 1, 1)
  if (sign %in% names(template_operators)) {
    body <- substring(body, 2)
  } else {
    sign <- "none"
  }
  variables <- lapply(strsplit(body, ",", fixed = TRUE)[[1]], function(spec) {
    prefix <- regmatches(spec, regexec(":([0-9]+)$", spec))[[1]]
    list(
      name = sub("(:[0-9]+|[*])$", "", spec),
      prefix = as.integer(prefix[-1]),
      exploded = grepl("*", spec, fixed = TRUE)
    )
  })
  list(operator = template_operators[[sign]], variables = variables)
}

template_variables <- function(template) {
  known <- remembered_variables[[paste0(" ", template)]]
  if (!is.null(known)) {
    return(known)
  }
  expressions <- regmatches(
    template, gregexpr("\\{[+#./;?&]?[A-Za-z_][A-Za-z0-9_.,:*]*\\}", template)
  )[[1]]
  bodies <- sub("^\\{[+#./;?&]?", "", sub("\\}$", "", expressions))
  names <- as.character(
    sub("(:[0-9]+|[*])$", "", unlist(strsplit(bodies, ",", fixed = TRUE)))
  )
  assign(paste0(" ", template), names, envir = remembered_variables)
  names
}

expand_expression <- function(expression, values) {
  operator <- expression$operator
  parts <- character()
  for (variable in expression$variables) {
    value <- values[[variable$name]]
    if (length(value)) {
      parts <- c(parts, expand_variable(variable, operator, value))
    }
  }
  if (!length(parts)) {
    ""
  } else {
    paste0(operator$first, paste(parts, collapse = operator$between))
  }
}

expand_variable <- function(variable, operator, value) {
  value <- as.character(value)
  if (length(variable$prefix)) value <- substr(value, 1, variable$prefix)
  value <- if (operator$reserved) {
    vapply(value, encode_reserved, "", USE.NAMES = FALSE)
  } else {
    encode_plain(value)
  }
  named <- function(text) {
    if (!operator$named) {
      return(text)
    }
    said <- paste0("=", text)
    said[!nzchar(text)] <- operator$empty
    paste0(variable$name, said)
  }
  if (variable$exploded) named(value) else named(paste(value, collapse = ","))
}

# Encodes everything but letters, digits and -._~ (RFC 3986), also what looks
# encoded: %41 in a text is encoded again.
encode_plain <- function(text) curl::curl_escape(enc2utf8(as.character(text)))

# Keeps reserved characters and percent-encoded triplets.
encode_reserved <- function(text) {
  pieces <- regmatches(
    text, gregexpr("%[0-9A-Fa-f]{2}", text),
    invert = NA
  )[[1]]
  plain <- !grepl("^%[0-9A-Fa-f]{2}$", pieces)
  pieces[plain] <- vapply(
    pieces[plain],
    function(piece) utils::URLencode(enc2utf8(piece), reserved = FALSE), ""
  )
  paste(pieces, collapse = "")
}

# A {var} in a body. In a form it is encoded. In JSON, "{var}" is a text, and
# null without a value; ["{var}"] is a list of texts; and {var} without quotes
# is the value as it stands, so [{var}] is a list of numbers.
template_expand_plain <- function(template, values, form = FALSE) {
  for (name in template_variables(template)) {
    value <- values[[name]]
    place <- paste0("{", name, "}")
    if (form) {
      template <- gsub(
        place, encode_plain(paste(value, collapse = ",")), template,
        fixed = TRUE
      )
      next
    }
    texts <- vapply(as.character(value), json_quoted, "", USE.NAMES = FALSE)
    template <- gsub(
      paste0("\\[(\\s*)\"\\{", name, "\\}\"(\\s*)\\]"),
      paste0("[\\1", as_replacement(paste(texts, collapse = ",")), "\\2]"),
      template
    )
    if (!length(value)) {
      template <- gsub(
        paste0("\"", place, "\""), "null", template,
        fixed = TRUE
      )
    }
    inner <- paste(substr(texts, 2, nchar(texts) - 1), collapse = ",")
    template <- gsub(place, inner, template, fixed = TRUE)
  }
  template
}

json_quoted <- function(text) {
  as.character(jsonlite::toJSON(text, auto_unbox = TRUE))
}

# Backslashes of a text that replaces a match of a regular expression.
as_replacement <- function(text) gsub("\\", "\\\\", text, fixed = TRUE)
