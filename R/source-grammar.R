# The words of a source card. An entry says what a value may be: a type, a set of words, a list of entries of its own, or
# a map whose keys are free. `!` before a type marks a part that must be there.

card_grammar <- function() {
  list(
    source = "!name", title = "text", notes = "text", address = "!text", access = access_grammar(),
    limits = "texts", at_once = "count", withheld = "duration", calendar = "text", zone = "text", open_http = "flag",
    offers = list(.each = offer_grammar())
  )
}

access_grammar <- function() {
  list(by = c("!word", "none", "query", "header", "bearer"), name = "text", secret = "text")
}

offer_grammar <- function() {
  list(
    shape = c("!word", "bars"), request = "!text", title = "text", most = "count",
    parameters = list(.each = list(gives = c("word", want_words), as = c("word", instant_types, "text"), words = list(.each = "text"), value = "text")),
    rows = "pointer", next_page = list(by = c("!word", "address", "none"), at = "pointer"),
    columns = list(.each = list(
      .short = "pointer", at = "pointer", as = c("word", column_types), need = c("word", "required", "optional"), default = "any"
    ))
  )
}

# What a want knows, by the word that a card calls it.
want_words <- c("symbol", "interval", "from", "to", "session", "most")

instant_types <- c("epoch-s", "epoch-ms", "epoch-us", "epoch-ns", "rfc3339", "day")
column_types <- c("text", "number", instant_types, "local")

# Walks content and grammar together. `keys` is the path so far, `place` turns it into file and line.
card_check <- function(content, grammar, keys, place) {
  if (is.character(grammar)) {
    return(card_check_value(content, grammar, keys, place))
  }
  if (!is.null(grammar$.short) && !is.list(content)) {
    return(card_check_value(content, grammar$.short, keys, place))
  }
  if (!is.null(content) && (!is.list(content) || (length(content) && is.null(names(content))))) {
    card_stop("must hold words and values of its own", keys, place, paste("write it as", key_name(keys), "followed by indented lines"))
  }
  if (!is.null(grammar$.each)) {
    for (key in names(content)) card_check(content[[key]], grammar$.each, c(keys, key), place)
    return(invisible())
  }
  known <- setdiff(names(grammar), ".short")
  for (key in setdiff(names(content), known)) {
    vetusta_stop("card", paste0("The word \"", key, "\" is not known here."), where = place(c(keys, key)), todo = suggest_word(key, known))
  }
  doubled <- names(content)[duplicated(names(content))]
  if (length(doubled)) card_stop("stands twice", c(keys, doubled[1]), place, "keep one of the two")
  for (key in known) {
    rule <- grammar[[key]]
    needed <- is.character(rule) && startsWith(rule[1], "!")
    if (is.null(content[[key]])) {
      if (needed) card_stop(paste0("lacks the part \"", key, "\""), keys, place, paste0("add ", key, ": to it"))
      next
    }
    card_check(content[[key]], rule, c(keys, key), place)
  }
}

card_check_value <- function(value, rule, keys, place) {
  type <- sub("^!", "", rule[1])
  one_text <- is.character(value) && length(value) == 1 && !is.na(value)
  good <- switch(type,
    any = TRUE,
    text = (one_text && nzchar(value)) || (is.numeric(value) && length(value) == 1),
    texts = is.character(value) && length(value) >= 1,
    name = one_text && grepl("^[a-z][a-z0-9-]*$", value),
    word = one_text && value %in% rule[-1],
    count = is.numeric(value) && length(value) == 1 && value >= 1 && value == round(value),
    flag = is.logical(value) && length(value) == 1,
    pointer = one_text && (value == "" || startsWith(value, "/")),
    duration = one_text && !inherits(try(time_interval(value), silent = TRUE), "try-error")
  )
  if (isTRUE(good)) {
    return(invisible())
  }
  shown <- if (length(value) == 1 && is.atomic(value)) paste0("cannot be \"", value, "\"") else "has the wrong type"
  todo <- switch(type,
    text = "write one text", texts = "write a list of texts, as in [90 per minute, 3000 per day]",
    name = "use small letters, digits and hyphens, beginning with a letter", word = suggest_word(paste(value, collapse = " "), rule[-1]),
    count = "write a whole number, 1 or more", flag = "write true or false",
    pointer = "write a JSON Pointer, as in /items or /meta/next; \"\" is the whole body",
    duration = "write an ISO 8601 duration, as in PT20M"
  )
  card_stop(shown, keys, place, todo)
}

key_name <- function(keys) if (length(keys)) paste0("`", keys[length(keys)], "`") else "the card"

card_stop <- function(what, keys, place, todo) {
  vetusta_stop("card", paste0(sub("^t", "T", key_name(keys)), " ", what, "."), where = place(keys), todo = todo)
}

card_check_columns <- function(offer, where) {
  needed <- list(bars = c("time", "close"))[[offer$shape]]
  for (name in setdiff(needed, names(offer$columns))) {
    vetusta_stop("card", paste0("The offer ", offer$name, " gives ", offer$shape, " and lacks the column `", name, "`."), where = where,
      todo = paste0("add ", name, ": with the place of its value in a row"))
  }
  if (is.null(offer$rows)) {
    vetusta_stop("card", paste0("The offer ", offer$name, " does not say where its rows are."), where = where, todo = "add rows: with a JSON Pointer, as in /items")
  }
}

# "90 per minute" -> count, seconds, the words
read_limit <- function(text) {
  found <- regmatches(text, regexec("^([0-9]+) per ([0-9]* ?[a-z]+)$", text))[[1]]
  interval <- if (length(found)) tryCatch(time_interval(found[3]), error = function(e) NULL)
  if (is.null(interval) || is.na(interval$seconds) || as.numeric(found[2]) < 1) {
    vetusta_stop("card", paste0("The limit \"", text, "\" cannot be read."), where = "limits", todo = "write it as 90 per minute, 4 per second or 300 per day")
  }
  list(count = as.numeric(found[2]), seconds = interval$seconds, words = text)
}

format_limit <- function(limit) limit$words
