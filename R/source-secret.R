# Secrets come from the environment or from a file outside version control. They
# are read when a request is sent, and no print shows them.

access_secrets <- function(access) {
  as.character(
    unlist(
      access[intersect(access_secret_parts, names(access))],
      use.names = FALSE
    )
  )
}

secrets_beside <- function(path) {
  candidates <- file.path(c(dirname(path), dirname(dirname(path))), "desk.env")
  existing <- candidates[file.exists(candidates)]
  if (length(existing)) existing[1] else candidates[2]
}

#' Read a secret
#'
#' @param source A source, see [source_card()].
#' @param name The name of the secret, which is that of an environment variable.
#' @return The secret, as a `vetusta_secret`, which prints as `<secret>`. The
#'   environment has precedence over the env file of `NAME=value` lines.
#' @section Errors: `vetusta_error_secret` for a missing secret, with the places
#'   for it.
#' @export
#' @examples
#' quay <- source_card("quay")
#' Sys.setenv(QUAY_KEY = "an-invented-key")
#' source_secret(quay, "QUAY_KEY")
#' Sys.unsetenv("QUAY_KEY")
source_secret <- function(source, name) {
  if (!inherits(given(source, "source", "secret"), "vetusta_source")) {
    vetusta_stop(
      "secret", "This is not a source.",
      todo = "read a source with source_card()"
    )
  }
  check_text(name, "name", "secret")
  secret_value(source, name)
  # only the place of the secret, so that a printed or saved object has no value
  structure(
    list(name = name, secrets = source$secrets),
    class = "vetusta_secret"
  )
}

# The value of a secret, which must be set and be one line.
secret_value <- function(source, name) {
  value <- find_secret(source, name)
  if (is.null(value)) {
    vetusta_stop(
      "secret",
      paste0(
        "The secret ", name, " of the source ", source$source, " is not set."
      ),
      where = paste0(source$file, ", access"),
      todo = paste0(
        "set the environment variable ", name, ", or run `vetusta secrets set ",
        name, "` in the desk, which writes it to desk.env"
      )
    )
  }
  if (grepl("[[:cntrl:]]", value)) {
    vetusta_stop(
      "secret",
      paste0(
        "The secret ", name, " of the source ", source$source,
        " has a line break or another control character."
      ),
      where = paste0(source$file, ", access"),
      todo = "set it again, on a single line"
    )
  }
  value
}

# The source within a run: each secret is read once, so that the sent and the
# redacted value are the same throughout. Such a source is never printed or
# saved.
source_of_run <- function(source) {
  source$found <- new.env(parent = emptyenv())
  source
}

find_secret <- function(source, name) {
  if (!is.null(source$found)) {
    if (is.null(source$found[[name]])) {
      assign(
        name, find_secret(source[c("secrets", "source")], name),
        envir = source$found
      )
    }
    return(source$found[[name]])
  }
  value <- Sys.getenv(name)
  if (nzchar(value)) {
    return(value)
  }
  value <- read_env_file(source$secrets)[[name]] %||% keyring_secret(name)
  if (is.null(value) || !nzchar(value)) NULL else value
}

# The system's keyring, where the package keyring is installed and can open one.
keyring_secret <- function(name) {
  if (!requireNamespace("keyring", quietly = TRUE)) {
    return(NULL)
  }
  tryCatch(keyring::key_get("vetusta", name), error = function(e) NULL)
}

secrets_set <- function(source) {
  vapply(
    access_secrets(source$access),
    function(name) !is.null(find_secret(source, name)), TRUE
  )
}

read_env_file <- function(path) {
  if (is.null(path) || !file.exists(path)) {
    return(list())
  }
  if (.Platform$OS.type == "unix" &&
    bitwAnd(as.integer(file.mode(path)), strtoi("077", 8L)) != 0L) {
    warning(
      "others can read the secrets in ", path,
      "; make it yours alone with: chmod 600 ", path,
      call. = FALSE
    )
  }
  lines <- trimws(readLines(path, warn = FALSE))
  lines <- lines[grepl("^(export +)?[A-Za-z_][A-Za-z0-9_]* *=", lines)]
  names <- trimws(sub("^(export +)?([^=]*)=.*", "\\2", lines))
  values <- trimws(sub("^[^=]*=", "", lines))
  quoted <- grepl("^\".*\"$|^'.*'$", values)
  values[quoted] <- substr(values[quoted], 2, nchar(values[quoted]) - 1)
  stats::setNames(as.list(values), names)
}

#' @export
format.vetusta_secret <- function(x, ...) "<secret>"

#' @export
print.vetusta_secret <- function(x, ...) {
  cat("<secret>\n")
  invisible(x)
}

#' @export
as.character.vetusta_secret <- function(x, ...) "<secret>"

# All forms in which a service may repeat a secret: plain; percent-encoded, with
# hex digits of either case, and with a plus for a blank; base64 in both
# alphabets and without padding; JSON and HTML escapes.
secret_forms <- function(secret) {
  percent <- curl::curl_escape(secret)
  base64 <- gsub(
    "\n", "", jsonlite::base64_enc(charToRaw(enc2utf8(secret))),
    fixed = TRUE
  )
  json <- gsub(
    "^\"|\"$", "", as.character(jsonlite::toJSON(secret, auto_unbox = TRUE))
  )
  ascii <- paste(
    vapply(
      utf8ToInt(enc2utf8(secret)),
      function(code) {
        if (code > 126) sprintf("\\u%04x", code) else intToUtf8(code)
      },
      ""
    ),
    collapse = ""
  )
  html <- gsub(
    "&", "&amp;",
    gsub(
      "<", "&lt;",
      gsub(
        ">", "&gt;", gsub("\"", "&quot;", secret, fixed = TRUE),
        fixed = TRUE
      ),
      fixed = TRUE
    ),
    fixed = TRUE
  )
  forms <- c(
    secret, percent, lower_percent(percent),
    gsub("%20", "+", percent, fixed = TRUE),
    utils::URLencode(secret, repeated = TRUE), base64, sub("=+$", "", base64),
    sub("=+$", "", chartr("+/", "-_", base64)), json,
    gsub("/", "\\/", json, fixed = TRUE), ascii, html,
    gsub("&amp;", "&#38;", html, fixed = TRUE)
  )
  forms <- unique(forms[nzchar(forms)])
  # a form that contains another one goes first
  forms[order(-nchar(forms, "bytes"))]
}

lower_percent <- function(text) {
  escapes <- gregexpr("%[0-9A-F]{2}", text)
  regmatches(text, escapes) <- lapply(regmatches(text, escapes), tolower)
  text
}

# Secrets with all their forms, for texts and bytes; computed once a run.
secrets_hidden <- function(secrets) {
  secrets <- as.character(secrets[nzchar(secrets)])
  # a short or numeric secret may occur in a body by chance and is left there
  long <- nchar(secrets) >= 6 & grepl("[^0-9.,]", secrets)
  forms <- lapply(secrets, secret_forms)
  structure(
    secrets,
    forms = as.character(unlist(forms)),
    body = as.character(unlist(forms[long])),
    patterns = vapply(secrets, percent_pattern, "", USE.NAMES = FALSE),
    class = "vetusta_hidden"
  )
}

# The secrets that a run must redact, as a function: those of its source, and
# its token.
run_secrets <- function(source, tokens) {
  hidden <- NULL
  token <- NULL
  function() {
    now <- c(
      tokens$value, tokens$refresh,
      if (source$access$by == "form-login") cookie_values(tokens$value)
    )
    if (is.null(hidden) || !identical(token, now)) {
      token <<- now
      hidden <<- secrets_hidden(c(source_secrets(source), token))
    }
    hidden
  }
}

# Each cookie of a session is a secret.
cookie_values <- function(token) {
  if (!is.null(token)) {
    sub("^[^=]*=", "", strsplit(token, "; ", fixed = TRUE)[[1]])
  }
}

# Removes secrets from a text that is shown or stored.
redact <- function(text, secrets) {
  if (!inherits(secrets, "vetusta_hidden")) secrets <- secrets_hidden(secrets)
  for (form in attr(secrets, "forms")) {
    text <- gsub(form, "<secret>", text, fixed = TRUE, useBytes = TRUE)
  }
  coded <- grepl("%[0-9A-Fa-f]{2}", text, useBytes = TRUE)
  if (any(coded)) {
    for (pattern in attr(secrets, "patterns")) {
      text[coded] <-
        gsub(pattern, "<secret>", text[coded], perl = TRUE, useBytes = TRUE)
    }
  }
  text
}

# A regular expression for a secret with any characters percent-encoded.
percent_pattern <- function(secret) {
  bytes <- as.character(charToRaw(enc2utf8(secret)))
  signs <- strsplit(bytes, "")
  paste(
    vapply(
      seq_along(bytes),
      function(i) {
        hex <- paste(
          vapply(
            signs[[i]],
            function(sign) {
              paste0("[", sign, toupper(sign), "]")
            },
            ""
          ),
          collapse = ""
        )
        paste0("(?:\\x", bytes[i], "|%", hex, ")")
      },
      ""
    ),
    collapse = ""
  )
}

has_secret <- function(text, secrets) {
  if (!inherits(secrets, "vetusta_hidden")) secrets <- secrets_hidden(secrets)
  any(vapply(attr(secrets, "forms"), grepl, TRUE, x = text, fixed = TRUE)) ||
    any(
      vapply(
        attr(secrets, "patterns"), grepl, TRUE,
        x = text, perl = TRUE,
        useBytes = TRUE
      )
    )
}

# The same for bytes: a service may repeat a key in its answer.
without_secrets <- function(body, secrets) {
  if (!inherits(secrets, "vetusta_hidden")) secrets <- secrets_hidden(secrets)
  forms <- attr(secrets, "body")
  if (!length(forms) || !length(body)) {
    return(body)
  }
  there <- vapply(
    forms, function(form) length(grepRaw(form, body, fixed = TRUE)) > 0, TRUE
  )
  if (!any(there)) {
    return(body)
  }
  mark <- charToRaw("<secret>")
  for (form in forms[there]) {
    at <- grepRaw(form, body, fixed = TRUE, all = TRUE)
    if (!length(at)) next
    size <- nchar(form, "bytes")
    starts <- c(1L, at + size)
    ends <- c(at - 1L, length(body))
    parts <- lapply(
      seq_along(starts),
      function(i) {
        c(if (i > 1) mark, if (starts[i] <= ends[i]) body[starts[i]:ends[i]])
      }
    )
    body <- do.call(c, parts)
  }
  body
}

# Stored bytes, without secrets.
redact_bytes <- function(body, secrets) {
  if (!inherits(secrets, "vetusta_hidden")) secrets <- secrets_hidden(secrets)
  there <- any(
    vapply(
      attr(secrets, "forms"),
      function(form) length(grepRaw(form, body, fixed = TRUE)) > 0, TRUE
    )
  )
  if (there) {
    charToRaw(redact(rawToChar(body[body != as.raw(0)]), secrets))
  } else {
    body
  }
}

basic_words <- function(user, password) {
  paste(
    "Basic",
    gsub(
      "\n", "",
      jsonlite::base64_enc(charToRaw(enc2utf8(paste0(user, ":", password))))
    )
  )
}

source_secrets <- function(source) {
  secrets <- as.character(
    unlist(
      lapply(
        access_secrets(source$access), function(name) find_secret(source, name)
      )
    )
  )
  # basic access joins both before encoding
  if (source$access$by == "basic" && length(secrets) == 2) {
    c(secrets, sub("^Basic ", "", basic_words(secrets[1], secrets[2])))
  } else {
    secrets
  }
}
