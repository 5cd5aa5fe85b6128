# Secrets come from the environment or from an env file that stays out of version control. They are read when a call is
# sent and wrapped so that no print shows them.

access_secrets <- function(access) as.character(unlist(access[intersect(access_secret_parts, names(access))], use.names = FALSE))

secrets_beside <- function(path) {
  candidates <- file.path(c(dirname(path), dirname(dirname(path))), "desk.env")
  found <- candidates[file.exists(candidates)]
  if (length(found)) found[1] else candidates[2]
}

#' Read a secret
#'
#' @param source A source, see [source_card()].
#' @param name The secret's name, which is the name of an environment variable.
#' @return The secret, as a `vetusta_secret`, which prints as `<secret>`. The environment is looked at first, then the env
#'   file of `NAME=value` lines.
#' @section Errors: `vetusta_error_secret` when it is not set, with the places where it can be put.
#' @export
#' @examples
#' quay <- source_card("quay")
#' Sys.setenv(QUAY_KEY = "an-invented-key")
#' source_secret(quay, "QUAY_KEY")
#' Sys.unsetenv("QUAY_KEY")
source_secret <- function(source, name) {
  value <- find_secret(source, name)
  if (is.null(value)) {
    vetusta_stop("secret", paste0("The secret ", name, " of the source ", source$source, " is not set."), where = paste0(source$file, ", access"),
      todo = paste0("set the environment variable ", name, ", or put the line ", name, "=... into ", source$secrets))
  }
  structure(list(value), class = "vetusta_secret")
}

find_secret <- function(source, name) {
  value <- Sys.getenv(name)
  if (nzchar(value)) {
    return(value)
  }
  value <- read_env_file(source$secrets)[[name]] %||% keyring_secret(name)
  if (is.null(value) || !nzchar(value)) NULL else value
}

# The system's keyring, where the package keyring is installed and has one to open.
keyring_secret <- function(name) {
  if (!requireNamespace("keyring", quietly = TRUE)) {
    return(NULL)
  }
  tryCatch(keyring::key_get("vetusta", name), error = function(e) NULL)
}

secrets_set <- function(source) {
  vapply(access_secrets(source$access), function(name) !is.null(find_secret(source, name)), TRUE)
}

read_env_file <- function(path) {
  if (is.null(path) || !file.exists(path)) {
    return(list())
  }
  if (.Platform$OS.type == "unix" && bitwAnd(as.integer(file.mode(path)), strtoi("077", 8L)) != 0L) {
    warning("others can read the secrets in ", path, "; make it yours alone with: chmod 600 ", path, call. = FALSE)
  }
  lines <- trimws(readLines(path, warn = FALSE))
  lines <- lines[grepl("^(export +)?[A-Za-z_][A-Za-z0-9_]* *=", lines)]
  names <- trimws(sub("^(export +)?([^=]*)=.*", "\\2", lines))
  values <- trimws(sub("^[^=]*=", "", lines))
  quoted <- grepl("^\".*\"$|^'.*'$", values)
  values[quoted] <- substr(values[quoted], 2, nchar(values[quoted]) - 1)
  stats::setNames(as.list(values), names)
}

reveal <- function(secret) unclass(secret)[[1]]

#' @export
format.vetusta_secret <- function(x, ...) "<secret>"

#' @export
print.vetusta_secret <- function(x, ...) {
  cat("<secret>\n")
  invisible(x)
}

#' @export
as.character.vetusta_secret <- function(x, ...) "<secret>"

# Every secret of a source that is set, and how it looks in an address: what must not be seen in any text.
redact <- function(text, secrets) {
  for (secret in secrets[nzchar(secrets)]) {
    for (form in unique(c(secret, curl::curl_escape(secret), jsonlite::base64_enc(charToRaw(secret))))) {
      text <- gsub(form, "<secret>", text, fixed = TRUE, useBytes = TRUE)
    }
  }
  text
}

# The same for bytes: a service may repeat a key in its answer.
without_secrets <- function(body, secrets) {
  if (!any(vapply(secrets, function(secret) length(grepRaw(secret, body, fixed = TRUE)) > 0, TRUE))) {
    return(body)
  }
  charToRaw(redact(rawToChar(body[body != as.raw(0)]), secrets))
}

basic_words <- function(user, password) paste("Basic", gsub("\n", "", jsonlite::base64_enc(charToRaw(enc2utf8(paste0(user, ":", password))))))

source_secrets <- function(source) {
  found <- as.character(unlist(lapply(access_secrets(source$access), function(name) find_secret(source, name))))
  # basic access joins the two before it encodes them
  if (source$access$by == "basic" && length(found) == 2) c(found, sub("^Basic ", "", basic_words(found[1], found[2]))) else found
}
