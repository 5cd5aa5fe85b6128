# Values that look like keys: pasted requests may contain one, a card never
# does.

# Common names of parameters for keys.
hidden_names <- paste0(
  "(^|[^a-z])(key|token|secret|pass(word|wd)?|pwd|auth(orization)?|",
  "sig(nature)?|",
  "credentials?|session(id)?|jwt|cookie|licen[cs]e)([^a-z]|$)|",
  "api_?key|access_?(key|token)|", "(client|app)_?(secret|id|key)|bearer"
)

# Whether a value looks like a key: by its name, by its length and entropy, or
# because an environment variable has it.
looks_hidden <- function(name, value) {
  value <- as.character(value)
  if (!nzchar(value) || grepl("^\\{[^{}]*\\}$", value)) {
    return(FALSE)
  }
  plain <- tolower(gsub("([a-z])([A-Z])", "\\1_\\2", name))
  by_name <- grepl(hidden_names, plain) &&
    nchar(value) >= 6 &&
    (grepl("[0-9]", value) || nchar(value) >= 12)
  by_name || is_mixed(value) || nzchar(environment_name(value))
}

# At least twenty letters and digits with little repetition: 3.2 bits a
# character or more.
is_mixed <- function(value) {
  if (nchar(value) < 20 ||
    !grepl("^[A-Za-z0-9._~+/=-]+$", value) ||
    !grepl("[0-9]", value) ||
    !grepl("[A-Za-z]", value) ||
    grepl("^[0-9]{4}-[0-9]{2}-[0-9]{2}T", value)) {
    return(FALSE)
  }
  share <- table(strsplit(value, "")[[1]]) / nchar(value)
  # words joined by hyphens, points or slashes are names
  words <- grepl("^[A-Za-z]+([._/-][A-Za-z0-9]+)*$", value) &&
    max(nchar(strsplit(value, "[._/-]")[[1]])) < 16
  -sum(share * log2(share)) >= 3.2 && !words
}

# The environment variable with this value; empty where none has it.
environment_name <- function(value) {
  if (nchar(value) < 8) {
    return("")
  }
  all <- Sys.getenv()
  names <- names(all)[all == value & grepl(hidden_names, tolower(names(all)))]
  if (length(names)) names[1] else ""
}

# Secrets in the texts of a request, each with a name: list(url, headers, body,
# values), with {NAME} in place of each value.
hidden_taken <- function(url, headers = character(), body = NULL,
                         name = "new") {
  values <- list()
  take <- function(label, value) {
    known <- names(values)[vapply(values, identical, TRUE, value)]
    if (length(known)) {
      return(known[1])
    }
    stem <- toupper(
      gsub(
        "[^A-Za-z0-9]+", "_",
        paste0(name, "_", sub("^.*[^A-Za-z0-9]", "", label))
      )
    )
    secret <- environment_name(value)
    if (!nzchar(secret)) {
      secret <- make.unique(
        c(names(values), sub("^([0-9])", "_\\1", stem)),
        sep = "_"
      )[length(values) + 1]
    }
    values[[secret]] <<- value
    secret
  }
  marked <- function(label, value) paste0("{", take(label, value), "}")
  owner <- regmatches(url, regexec("^([a-z]+://)([^/@?#]*)@", url))[[1]]
  if (length(owner)) {
    vetusta_stop(
      "draft",
      "The URL has a user and a password in it.",
      where = sub("//[^/@]*@", "//<secret>@", url),
      todo = paste0(
        "leave them out, and give them as --header \"Authorization: ",
        "Basic {NAME}\""
      )
    )
  }
  query <- regmatches(url, regexec("^([^?#]*)([?]([^#]*))?", url))[[1]]
  path <- sub("^[a-z]+://[^/]*", "", query[2])
  hidden <- Filter(
    function(part) looks_hidden("", part),
    strsplit(path, "/", fixed = TRUE)[[1]]
  )
  if (length(hidden)) {
    vetusta_stop(
      "draft",
      "The URL's path has a part that looks like a key.",
      where = gsub(hidden[1], "<secret>", url, fixed = TRUE),
      todo = "give a URL with its key in a parameter or a header"
    )
  }
  parts <- strsplit(query[4], "&", fixed = TRUE)[[1]]
  parts <- vapply(
    parts,
    function(part) {
      label <- sub("=.*", "", part)
      value <- utils::URLdecode(sub("^[^=]*=?", "", part))
      if (grepl("=", part, fixed = TRUE) && looks_hidden(label, value)) {
        paste0(label, "=", marked(label, value))
      } else {
        part
      }
    },
    "",
    USE.NAMES = FALSE
  )
  url <- paste0(
    query[2], if (length(parts)) paste0("?", paste(parts, collapse = "&"))
  )
  for (label in names(headers)) {
    value <- headers[[label]]
    prefix <- regmatches(value, regexpr("^[A-Za-z]+ +", value))
    bare <- if (length(prefix)) substring(value, nchar(prefix) + 1) else value
    if (looks_hidden(label, bare)) {
      headers[[label]] <- paste0(prefix, marked(label, bare))
    }
  }
  if (length(body) && body_hides(body)) {
    vetusta_stop(
      "draft",
      "The body has a value that looks like a key.",
      todo = paste(
        "leave it out and draft the rest; a card names a key in a",
        "parameter or a header,", "and never in a body"
      )
    )
  }
  list(url = url, headers = headers, body = body, values = values)
}

# Pairs of name and value in a body, in JSON or a form.
body_hides <- function(body) {
  pairs <- regmatches(
    body,
    gregexpr(
      "[\"']?[A-Za-z_][A-Za-z0-9_-]*[\"']?\\s*[:=]\\s*\"?[^\"&,}\\s]+", body,
      perl = TRUE
    )
  )[[1]]
  any(vapply(
    pairs,
    function(pair) {
      looks_hidden(
        gsub("[\"' ]", "", sub("\\s*[:=].*", "", pair)),
        sub("^[^:=]*[:=]\\s*\"?", "", pair)
      )
    },
    TRUE
  ))
}

# A copied curl command: list(url, headers, body). Its other words are ignored.
curl_command <- function(text) {
  words <- shell_words(text)
  url <- body <- NULL
  headers <- character()
  i <- 2
  add <- function(line) {
    headers[trimws(sub(":.*", "", line))] <<- trimws(sub("^[^:]*:", "", line))
  }
  while (i <= length(words)) {
    word <- words[i]
    value <- if (i < length(words)) words[i + 1] else ""
    both <- regmatches(word, regexec("^(--[a-z-]+)=(.*)$", word))[[1]]
    if (length(both)) {
      word <- both[2]
      value <- both[3]
      i <- i - 1
    }
    takes <- TRUE
    if (word %in% c("-H", "--header")) {
      add(value)
    } else if (grepl(
      "^(-d|--data(-raw|-binary|-ascii|-urlencode)?|--json)$", word
    )) {
      body <- paste(c(body, value), collapse = "&")
    } else if (word %in% c("-u", "--user")) {
      add(
        paste0(
          "Authorization: ",
          basic_words(sub(":.*", "", value), sub("^[^:]*:?", "", value))
        )
      )
    } else if (word %in% c("-b", "--cookie")) {
      add(paste0("Cookie: ", value))
    } else if (word == "--url") {
      url <- value
    } else if (!word %in% curl_takes) {
      takes <- FALSE
      if (!startsWith(word, "-")) url <- url %||% word
    }
    i <- i + if (takes) 2 else 1
  }
  # a browser's standard headers do not describe the API
  standard <- tolower(names(headers)) %in%
    c(
      "user-agent", "accept-encoding", "accept-language", "connection",
      "host", "origin", "referer", "cache-control", "pragma", "content-length"
    ) |
    grepl("^sec-", tolower(names(headers)))
  if (is.null(url)) {
    vetusta_stop(
      "draft", "The command of curl names no URL.",
      todo = "copy the complete command, with its URL"
    )
  }
  list(url = url, headers = headers[!standard], body = body)
}

# Options of curl that take a value.
curl_takes <- c(
  "-X", "--request", "-A", "--user-agent", "-o", "--output", "-m",
  "--max-time", "-e", "--referer", "--connect-timeout", "-x", "--proxy"
)

# Splits a line into words as a shell does.
shell_words <- function(text) {
  text <- gsub("\\\\\r?\n", " ", text)
  pattern <- "(\\$?'[^']*'|\"(\\\\.|[^\"\\\\])*\"|\\\\.|[^\\s'\"\\\\])+"
  words <- regmatches(text, gregexpr(pattern, text, perl = TRUE))[[1]]
  vapply(
    words,
    function(word) {
      parts <- regmatches(
        word,
        gregexpr(
          "\\$?'[^']*'|\"(\\\\.|[^\"\\\\])*\"|\\\\.|[^'\"\\\\]+", word,
          perl = TRUE
        )
      )[[1]]
      parts <- sub("^\\$?'(.*)'$", "\\1", parts)
      quoted <- grepl("^\".*\"$", parts)
      parts[quoted] <- gsub(
        "\\\\(.)", "\\1", substr(parts[quoted], 2, nchar(parts[quoted]) - 1)
      )
      escaped <- grepl("^\\\\.$", parts)
      parts[escaped] <- substring(parts[escaped], 2)
      paste(parts, collapse = "")
    },
    "",
    USE.NAMES = FALSE
  )
}
