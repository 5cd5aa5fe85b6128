# A source card is a YAML file that describes one data API. It is read as data,
# checked word by word, and contains no secret, only the names of secrets.

#' Read a source card
#'
#' @param file Path of the card, a YAML file; the name of a shipped card, such
#'   as `"quay"`; a list with the words of a card; or lines of text, such as a
#'   result of [source_draft()].
#' @param url A URL that replaces that of the card, for a service that runs
#'   elsewhere.
#' @param secrets Path of the env file with the secrets; by default `desk.env`
#'   in the card's folder or its parent.
#' @param account The name of one of the card's `accounts`, if it has several
#'   keys.
#' @return A `vetusta_source`: a list of `source` (its name), `title`, `url`,
#'   `access`, `limits`, `delay`, `calendar`, `zone`, `datasets`, `findings` (of
#'   `vetusta sources check`: words without effect, and values that look like
#'   keys) and the file. Printing shows the names of its secrets and whether
#'   they are set, never a value.
#' @section Errors: `vetusta_error_card` for a missing file, invalid YAML, or an
#'   invalid word, type or part; with file, line and the nearest valid word.
#' @export
#' @examples
#' source_card("quay")
source_card <- function(file, url = NULL, secrets = NULL, account = NULL) {
  given(file, "file", "card")
  if (is.list(file) || length(file) > 1) {
    return(
      card_read(
        card_lines(file), "the card", url, secrets %||% "desk.env", account
      )
    )
  }
  check_text(file, "file", "card")
  path <- card_path(file)
  if (file.size(path) > 1e6) {
    vetusta_stop(
      "card", "The card's file is larger than a million bytes.",
      where = path,
      todo = "give the path of a card"
    )
  }
  text <- readLines(path, warn = FALSE, encoding = "UTF-8")
  secrets <- secrets %||% secrets_beside(path)
  parsed_once(
    "card",
    text,
    path,
    url,
    secrets,
    account,
    make = function() card_read(text, path, url, secrets, account)
  )
}

# The lines of a card that is a list, or lines already.
card_lines <- function(card) {
  if (is.character(card) && !anyNA(card)) {
    return(card)
  }
  if (!is.list(card) || is.null(names(card)) || is.object(card)) {
    vetusta_stop(
      "card", "A card must be a path, a named list, or lines of text.",
      todo = "write it as list(source = \"mill\", url = ..., datasets = ...)"
    )
  }
  # flags as true and false, not as yes and no, which are texts in a card
  flag <- function(x) structure(tolower(as.character(x)), class = "verbatim")
  text <- yaml::as.yaml(card, handlers = list(logical = flag))
  strsplit(text, "\n", fixed = TRUE)[[1]]
}

card_read <- function(text, path, url, secrets, account) {
  content <- card_yaml(text, path)
  place <- function(keys) card_place(text, path, keys)
  card_check(content, card_grammar(), character(), place)
  if (!is.null(url)) content$url <- check_text(url, "url", "card")
  if (!is.null(account)) {
    if (!length(content$accounts)) {
      vetusta_stop(
        "card", "The card has no accounts.",
        where = path,
        todo = "leave out `account`, or add accounts: to the card", usage = TRUE
      )
    }
    check_choice(account, "account", names(content$accounts), "card")
    content$access <- utils::modifyList(
      content$access, content$accounts[[account]]
    )
  }
  source <- card_finish(content, path, secrets, place)
  text <- paste(text, collapse = "\n")
  source$card <- list(
    hash = digest::digest(text, "md5", serialize = FALSE), text = text
  )
  source
}

card_path <- function(file) {
  if (file.exists(file) && !dir.exists(file)) {
    return(normalizePath(file))
  }
  shipped <- system.file("cards", paste0(file, ".yml"), package = "vetusta")
  if (grepl("^[a-z0-9-]+$", file) && nzchar(shipped)) {
    return(shipped)
  }
  names <- sub(
    "[.]yml$", "",
    list.files(system.file("cards", package = "vetusta"), "[.]yml$")
  )
  vetusta_stop(
    "card",
    paste0("There is no source card \"", file, "\"."),
    todo = paste0(
      "give the path of a card, or the name of a shipped card: ",
      paste(names, collapse = ", ")
    ),
    usage = TRUE
  )
}

# YAML 1.1 reads no, off, n and y as truth values; here they stay texts.
card_yaml <- function(text, path, what = "card") {
  # deep nesting would exhaust the parser's memory
  deep <- vapply(
    strsplit(text, "", fixed = TRUE),
    function(signs) {
      max(0, cumsum((signs %in% c("{", "[")) - (signs %in% c("}", "]"))))
    },
    0
  )
  if (length(text) &&
    (max(deep, 0) > 100 || max(nchar(sub("[^ -].*", "", text)), 0) > 400)) {
    vetusta_stop(
      what, paste0("The ", what, "'s file nests too deeply."),
      where = path,
      todo = "write it with fewer levels"
    )
  }
  as_written <- function(x) {
    if (tolower(x) %in% c("true", "false")) tolower(x) == "true" else x
  }
  content <- tryCatch(
    yaml::yaml.load(
      paste(text, collapse = "\n"),
      eval.expr = FALSE,
      handlers = list("bool#yes" = as_written, "bool#no" = as_written)
    ),
    error = function(e) {
      line <- sub(".*line ([0-9]+).*", "\\1", conditionMessage(e))
      twice <- regmatches(
        conditionMessage(e),
        regexec("Duplicate map key: '(.*)'", conditionMessage(e))
      )[[1]]
      if (length(twice)) {
        at <- grep(
          paste0("(^|[{,\\s-])[\"']?\\Q", twice[2], "\\E[\"']?\\s*:(\\s|$)"),
          text,
          perl = TRUE
        )
        vetusta_stop(
          what,
          paste0("The name \"", twice[2], "\" is written twice."),
          where = paste0(path, ", line ", at[length(at)]),
          todo = "remove one of the two"
        )
      }
      vetusta_stop(
        what,
        paste0("The ", what, "'s file is not valid YAML."),
        where = paste0(
          path, if (grepl("^[0-9]+$", line)) paste0(", line ", line)
        ),
        todo = paste0(
          "mend it: ", sub("^.*\\) *", "", sub("\n.*", "", conditionMessage(e)))
        )
      )
    }
  )
  if (!is.list(content) || is.null(names(content))) {
    vetusta_stop(
      what,
      paste0("The ", what, "'s file is empty or not a YAML mapping."),
      where = path,
      todo = paste(
        "begin with",
        switch(what,
          card = "source: and url:",
          calendar = "calendar: and zone:",
          "desk:"
        )
      )
    )
  }
  content
}

# The line of a path of keys, found by following the keys through the text.
card_place <- function(text, path, keys) {
  at <- 1L
  for (key in keys) {
    if (grepl("^[0-9]+$", key)) next
    pattern <- paste0("(^|[{,\\s-])[\"']?\\Q", key, "\\E[\"']?\\s*:(\\s|$)")
    hits <- grep(pattern, text[at:length(text)], perl = TRUE)
    if (!length(hits)) break
    at <- at + hits[1] - 1L
  }
  paste0(
    path, ", line ", at,
    if (length(keys)) paste0(", ", paste(keys, collapse = "/"))
  )
}

card_finish <- function(content, path, secrets, place) {
  card <- list(
    source = content$source,
    title = content$title %||% content$source,
    notes = content$notes,
    licence = content$licence,
    url = sub("/+$", "", content$url),
    access = content$access %||% list(by = "none"),
    limits = lapply(
      as.list(content$limits),
      read_limit,
      zone = content$quota_zone %||% "UTC",
      where = place("limits")
    ),
    at_once = content$at_once %||% 1L,
    elsewhere = content$elsewhere %||% "refuse",
    problem = content$problem,
    headers = content$headers,
    patience = if (is.null(content$patience)) {
      30
    } else {
      time_interval(content$patience, "patience")$seconds
    },
    delay = if (!is.null(content$delay)) time_interval(content$delay, "delay"),
    cost = content$cost,
    sdmx = content$sdmx,
    calendar = content$calendar,
    zone = content$zone %||% "UTC",
    open_http = isTRUE(content$open_http),
    datasets = content$datasets,
    file = path,
    secrets = secrets
  )
  check_zone(card$zone, "card", where = place("zone"))
  check_zone(content$quota_zone %||% "UTC", "card", where = place("quota_zone"))
  card_check_access(card$access, place)
  card_check_url(card, place)
  for (name in names(card$datasets)) {
    if (card$access$by == "path") {
      card$datasets[[name]]$parameters[[card$access$name]] <-
        list(value = "<secret>")
    }
    card$datasets[[name]] <- dataset_made(card$datasets[[name]], name)
    card_check_columns(
      card$datasets[[name]], place(c("datasets", name, "columns"))
    )
    card_check_widest(
      card$datasets[[name]], place(c("datasets", name, "widest"))
    )
    card_check_rules(card$datasets[[name]], place)
    card_check_request(card$datasets[[name]], place)
    card_check_gives(card$datasets[[name]], place)
    card_check_job(card$datasets[[name]], place(c("datasets", name, "job")))
    card_check_nothing(
      card$datasets[[name]], place(c("datasets", name, "nothing"))
    )
    card_check_aligned(
      card$datasets[[name]], place(c("datasets", name, "aligned"))
    )
    card_check_weight(
      card$datasets[[name]], card$limits, place(c("datasets", name, "weight"))
    )
  }
  card$findings <- card_findings(content, card, place)
  structure(card, class = "vetusta_source")
}

# A dataset of a card, with its name and a class: bars are requested by symbol,
# rows of other shapes by keys.
dataset_made <- function(dataset, name) {
  kind <- if (identical(dataset$shape, "bars")) {
    "vetusta_dataset_bars"
  } else {
    "vetusta_dataset_rows"
  }
  for (column in names(dataset$columns)) {
    dataset$columns[[column]] <-
      column_rule(dataset$columns[[column]], column, dataset$shape)
  }
  dataset$symbols_a_request <- Find(
    length,
    lapply(names(dataset$parameters), function(parameter) {
      rule <- dataset$parameters[[parameter]]
      if ((rule$gives %||% parameter) == "symbols") rule$a_request
    })
  )
  # JSON within other text
  if (identical(dataset$format, "wrapped-json")) {
    dataset$format <- "json"
    dataset$wrapped <- TRUE
  }
  # the range after the last row cannot be satisfied (RFC 9110, section 15.5.17)
  if (sends_header(dataset$next_page)) {
    dataset$nothing <- union(dataset$nothing, 416)
  }
  dataset$reading <- dataset_reading(dataset)
  structure(c(dataset, list(name = name)), class = kind)
}

gives_bars <- function(dataset) inherits(dataset, "vetusta_dataset_bars")

# A dataflow of a statistics office, by name alone; its structure has the rest.
dataflow_named <- function(name) {
  structure(
    list(name = name, shape = "observations", columns = list()),
    class = "vetusta_dataflow"
  )
}

# http sends credentials unencrypted, so it is allowed for services on this
# machine only, unless the card says otherwise.
card_check_url <- function(card, place) {
  parts <- tryCatch(curl::curl_parse_url(card$url), error = function(e) NULL)
  if (is.null(parts) || !isTRUE(parts$scheme %in% c("http", "https"))) {
    vetusta_stop(
      "card", paste0("\"", card$url, "\" is not an http or https URL."),
      where = place("url"),
      todo = "write the complete URL, as in https://data.example.org/v1"
    )
  }
  if (parts$scheme == "http" && !is_loopback(parts$host) && !card$open_http) {
    vetusta_stop(
      "card",
      paste0(
        "The URL uses plain http, so others on the network could read the ",
        "key."
      ),
      where = place("url"),
      todo = paste0(
        "use https; or, where the service has only http and needs no ",
        "key, write ", "open_http: true"
      )
    )
  }
}

is_loopback <- function(host) {
  grepl("^(localhost|127[.][0-9.]+|\\[?::1\\]?)$", host)
}

#' @export
print.vetusta_source <- function(x, ...) {
  cat("source ", x$source, ": ", x$title, "\n", sep = "")
  cat("  URL       ", x$url, "\n", sep = "")
  names <- access_secrets(x$access)
  cat(
    "  access    ", x$access$by,
    if (length(names)) {
      paste0(
        ", ",
        paste0(
          names, ifelse(secrets_set(x), " (set)", " (not set)"),
          collapse = ", "
        )
      )
    },
    "\n",
    sep = ""
  )
  if (length(x$limits)) {
    cat(
      "  limits    ",
      paste(vapply(x$limits, format_limit, ""), collapse = ", "), "\n",
      sep = ""
    )
  }
  if (!is.null(x$delay)) {
    cat("  delay     newest ", format(x$delay), "\n", sep = "")
  }
  if (!is.null(x$calendar)) cat("  calendar  ", x$calendar, "\n", sep = "")
  if (speaks_sdmx(x)) {
    cat(
      "  datasets  statistics by SDMX ", x$sdmx$version, ", agency ",
      x$sdmx$agency, "\n",
      sep = ""
    )
  }
  for (dataset in x$datasets) {
    cat("  datasets  ", dataset$name, " (", dataset$shape, ")\n", sep = "")
  }
  invisible(x)
}
