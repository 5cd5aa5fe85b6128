# The grammar of a source card. An entry says what a value may be: a type, a set
# of words, a list of entries, or a map with free keys. `!` before a type marks
# a required part.

card_grammar <- function() {
  list(
    source = "!name",
    title = "text",
    notes = "text",
    licence = "text",
    url = "!text",
    access = access_grammar(),
    sdmx = sdmx_grammar(),
    accounts = list(.each = access_parts()),
    limits = "limits",
    quota_zone = "text",
    at_once = "count",
    cost = cost_grammar,
    delay = "duration",
    patience = "duration",
    calendar = "text",
    zone = "text",
    open_http = "flag",
    elsewhere = c("word", "refuse", "follow"),
    problem = list(
      .short = "pointer", at = "!pointer", fine = "values", again = "values",
      text = "pointer"
    ),
    headers = list(.each = "line"),
    datasets = list(.each = dataset_grammar())
  )
}

dataset_grammar <- function() {
  list(
    shape = c("!word", names(shape_columns)),
    title = "text",
    cost = cost_grammar,
    example = list(.each = "text"),
    method = c("word", "GET", "POST"),
    request = "!text",
    body = "text",
    keep = "duration",
    largest_page = "count",
    weight = "number",
    aligned = "duration",
    nothing = "values",
    only = list(.each = "values"),
    lookup = list(
      rows = "!pointer", form = c("word", row_forms), by = "pointer",
      from = "!pointer"
    ),
    widest = list(.short = "duration", .each = "duration"),
    format = c(
      "word", "json", "json-lines", "wrapped-json", "csv", "tsv", "xml", "xlsx",
      "json-stat", "xbrl-json"
    ),
    table = list(
      names = "flag", separator = "text", skip = "count", remark = "text",
      encoding = "text", sheet = "text", files = "text"
    ),
    bar_time = c("word", "start", "end"),
    unpack = list(by = "text", into = "texts", keep = "texts"),
    parameters = list(
      .each = list(
        gives = "text",
        as = c("word", instant_types, "local", "text"),
        written = "text",
        words = list(.each = "text"),
        value = "value",
        join = "text",
        each = "texts",
        a_request = "count",
        exclusive = "flag",
        inclusive = "flag"
      )
    ),
    rows = "pointer",
    form = c("word", row_forms),
    names = list(.short = "pointer", at = "!pointer", member = "pointer"),
    within = list(
      .short = "pointer", at = "!pointer", form = c("word", row_forms)
    ),
    sides = "texts",
    next_page = list(
      by = c(
        "!word", "url", "link", "cursor", "last", "page", "offset", "time",
        "none"
      ),
      at = value_grammar(),
      send = list(.short = "text", header = "!line", text = "line"),
      first = "number",
      total = value_grammar(),
      pages = value_grammar(),
      more = value_grammar()
    ),
    job = list(
      ticket = "pointer",
      look = "!text",
      state = "pointer",
      ready = "text",
      failed = "text",
      link = "pointer",
      pause = "duration",
      unpack = c("word", "none", "gzip", "zip"),
      piece = "count"
    ),
    columns = list(
      .each = list(
        .short = "pointer",
        at = "pointers",
        of = "text",
        joined = "string",
        digits = "values",
        as = "type",
        value = "text",
        unit = "text",
        written = list(.short = "text", as = "!text", months = "texts"),
        zone = fact_grammar("text"),
        decimal = c("word", ".", ","),
        scale = fact_grammar("number", as = c("word", "factor", "decimals")),
        words = list(.each = "text"),
        need = c("word", "required", "optional"),
        default = "any",
        missing = "values_or_none"
      )
    )
  )
}

# A fact about a column: written in the card, or read from each row, or with
# `of: body` from the body.
fact_grammar <- function(type, ...) {
  list(.short = type, at = "!pointer", of = c("word", "body"), ...)
}

# Free, paid, or paid by a plan.
cost_grammar <- list(.short = c("word", "free", "paid"), plan = "!text")

# A value in an answer's body or in one of its headers.
value_grammar <- function() list(.short = "pointer", header = "!text")

row_forms <- c(
  "objects", "arrays", "columns", "map", "pairs", "one", "matrix", "tree"
)

# The shapes, with the required columns of a row. Together with the source they
# are its key, except for bars and facts, whose values are not part of it.
shape_columns <- list(
  bars = c("time", "close"),
  observations = c("series", "period", "value"),
  instruments = "symbol",
  snapshot = "symbol",
  facts = c("symbol", "item", "period_end", "value"),
  documents = c("symbol", "link"),
  places = "place",
  actions = c("symbol", "ex_day", "kind"),
  contracts = c("symbol", "last_day"),
  members = c("list", "symbol"),
  datasets = "dataset",
  table = character()
)

# What a query has, by the card's words; keys are known by their own names too.
query_words <- c(
  "symbol", "symbols", "interval", "from", "to", "session", "largest_page"
)

instant_types <- c(
  "epoch-s", "epoch-ms", "epoch-us", "epoch-ns", "rfc3339", "day"
)
column_types <- c(
  "text", "number", "whole number", "percent", "flag", instant_types, "local"
)

# A number of days since a day.
counted_type <- "^(day|local|rfc3339) since [0-9]{4}-[0-9]{2}-[0-9]{2}$"

# Former words of cards, and their replacements.
card_old_words <- c(
  offers = "datasets", withheld = "delay", most = "largest_page"
)

card_todo <- function(word, known) {
  new <- card_old_words[word]
  if (!is.na(new) && new %in% known) {
    paste0("write ", new, " in its place")
  } else {
    suggest_word(word, known)
  }
}

# Checks content against the grammar. `keys` is the current path, `place`
# converts it to file and line.
card_check <- function(content, grammar, keys, place) {
  if (is.character(grammar)) {
    return(card_check_value(content, grammar, keys, place))
  }
  if (!is.null(grammar$.short) && !is.list(content)) {
    return(card_check_value(content, grammar$.short, keys, place))
  }
  if (any(grepl("[[:cntrl:]]", names(content)))) {
    card_stop(
      "has a name with a line break in it", keys, place,
      "write names on one line"
    )
  }
  if (!is.null(content) &&
    (!is.list(content) || (length(content) && is.null(names(content))))) {
    card_stop(
      "must be a map of words and values", keys, place,
      paste("write it as", key_name(keys), "followed by indented lines")
    )
  }
  if (!is.null(grammar$.each)) {
    for (key in names(content)) {
      card_check(content[[key]], grammar$.each, c(keys, key), place)
    }
    return(invisible())
  }
  known <- setdiff(names(grammar), ".short")
  for (key in setdiff(names(content), known)) {
    vetusta_stop(
      "card",
      paste0("Unknown word \"", key, "\"."),
      where = place(c(keys, key)),
      todo = card_todo(key, known)
    )
  }
  doubled <- names(content)[duplicated(names(content))]
  if (length(doubled)) {
    card_stop(
      "is written twice", c(keys, doubled[1]), place, "remove one of the two"
    )
  }
  for (key in known) {
    rule <- grammar[[key]]
    needed <- is.character(rule) && startsWith(rule[1], "!")
    if (is.null(content[[key]])) {
      if (needed) {
        card_stop(
          paste0("lacks the part \"", key, "\""), keys, place,
          paste0("add ", key, ": to it")
        )
      }
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
    text = (one_text && nzchar(value)) ||
      (is.numeric(value) && length(value) == 1),
    # a line break in a header would begin another header
    line = ((one_text && nzchar(value)) ||
      (is.numeric(value) && length(value) == 1)) &&
      !grepl("[[:cntrl:]]", paste(value)),
    string = one_text,
    value = one_text || (is.numeric(value) && length(value) == 1),
    texts = is.character(value) && length(value) >= 1,
    limits = is.character(value) && length(value) %in% 1:100,
    values = is.atomic(unlist(value)) && length(value) >= 1,
    values_or_none = is.atomic(unlist(value)),
    type = one_text &&
      (value %in% column_types || grepl(counted_type, value)),
    name = one_text && grepl("^[a-z][a-z0-9-]*$", value),
    word = one_text && value %in% rule[-1],
    number = is.numeric(value) && length(value) == 1,
    count = is.numeric(value) &&
      length(value) == 1 &&
      value >= 1 &&
      value == round(value),
    flag = is.logical(value) && length(value) == 1,
    pointer = one_text && (value == "" || startsWith(value, "/")),
    pointers = is.character(value) &&
      length(value) >= 1 &&
      all(value == "" | startsWith(value, "/")),
    duration = one_text &&
      !inherits(try(time_interval(value), silent = TRUE), "try-error"),
    span = one_text &&
      (length(span_unit(value)) > 0 ||
        !inherits(try(time_interval(value), silent = TRUE), "try-error"))
  )
  if (isTRUE(good)) {
    return(invisible())
  }
  shown <- if (length(value) == 1 && is.atomic(value)) {
    paste0("cannot be \"", value, "\"")
  } else {
    "has the wrong type"
  }
  todo <- switch(type,
    text = ,
    value = ,
    string = "write a text",
    line = "write a text on one line",
    limits = paste0(
      "write a list of texts, 100 at most, as in [90 per minute, ",
      "3000 per day]"
    ),
    texts = "write a list of texts, as in [90 per minute, 3000 per day]",
    name = "use small letters, digits and hyphens, beginning with a letter",
    word = suggest_word(paste(value, collapse = " "), rule[-1]),
    type = if (grepl("since", paste(value, collapse = " "))) {
      "write day, local or rfc3339 before it, as in day since 1899-12-30"
    } else {
      suggest_word(paste(value, collapse = " "), column_types)
    },
    number = "write a number",
    count = "write a whole number, 1 or more",
    flag = "write true or false",
    pointer = ,
    pointers = paste0(
      "write a JSON Pointer, as in /items or /meta/next; \"\" is the ",
      "whole body"
    ),
    duration = "write an ISO 8601 duration, as in PT20M",
    span = "write a length, as in 10 days, or year to date"
  )
  card_stop(shown, keys, place, todo)
}

key_name <- function(keys) {
  if (length(keys)) paste0("`", keys[length(keys)], "`") else "the card"
}

card_stop <- function(what, keys, place, todo) {
  vetusta_stop(
    "card", paste0(sub("^t", "T", key_name(keys)), " ", what, "."),
    where = place(keys), todo = todo
  )
}

# "90 per minute" -> count, seconds, text
read_limit <- function(text, zone = "UTC", where = "limits") {
  matches <- regmatches(
    tolower(text),
    regexec("^([0-9]+)( weight)? per ([0-9]* ?[a-z]+)$", tolower(text))
  )[[1]]
  interval <- if (length(matches)) {
    tryCatch(time_interval(matches[4]), error = function(e) NULL)
  }
  if (is.null(interval) ||
    (is.na(interval$seconds) && interval$iso != "P1M") ||
    as.numeric(matches[2]) < 1) {
    vetusta_stop(
      "card", paste0("The limit \"", text, "\" cannot be read."),
      where = where,
      todo = paste0(
        "write it as 90 per minute, 4 per second, 300 per day or 1200 ",
        "weight per minute"
      )
    )
  }
  quota <- if (interval$unit %in% c("day", "month") && interval$count == 1) {
    interval$unit
  }
  list(
    count = as.numeric(matches[2]),
    seconds = if (identical(quota, "month")) 31 * 86400 else interval$seconds,
    quota = quota,
    zone = zone,
    words = text,
    weighs = nzchar(matches[3])
  )
}

format_limit <- function(limit) limit$words
