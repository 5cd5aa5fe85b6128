#' Secrets of a desk
#'
#' @param desk A desk.
#' @param name The name of the secret: letters, digits and underscores.
#' @param value Its value, one line.
#' @return `desk_secret()` writes the secret to the desk's env file, which only
#'   its owner can read, and returns the desk. `desk_secrets()` returns a data
#'   frame of `source`, `secret` and `from` (`environment`, `env file`,
#'   `keyring` or `not set`), never a value.
#' @section Errors: `vetusta_error_secret` for an invalid name or value.
#' @export
#' @examples
#' desk <- desk_make(file.path(tempdir(), "secret-desk"))
#' desk_secret(desk, "QUAY_KEY", "an-invented-key")
#' desk_secrets(desk)
desk_secret <- function(desk, name, value) {
  if (!inherits(given(desk, "desk", "desk"), "vetusta_desk")) {
    vetusta_stop(
      "desk", "This is not a desk.",
      todo = "open a desk with desk_open()"
    )
  }
  name <- given(name, "name", "secret")
  value <- given(value, "value", "secret")
  if (!is.character(name) ||
    length(name) != 1 ||
    !grepl("^[A-Za-z_][A-Za-z0-9_]*$", name)) {
    vetusta_stop(
      "secret", "A secret's name has letters, digits and underscores.",
      todo = "choose a name such as QUAY_KEY"
    )
  }
  if (!is.character(value) ||
    length(value) != 1 ||
    is.na(value) ||
    !nzchar(value) ||
    grepl("[\r\n]", value)) {
    vetusta_stop(
      "secret",
      paste0("The value of ", name, " is empty or of several lines."),
      todo = "give a single line"
    )
  }
  path <- file.path(desk$folder, "desk.env")
  with_locked_file(path, function() {
    lines <- if (file.exists(path)) {
      readLines(path, warn = FALSE)
    } else {
      character()
    }
    lines <- c(
      lines[!grepl(paste0("^(export +)?", name, " *="), lines)],
      paste0(name, "=", value)
    )
    write_lines_whole(lines, path, "secret", "600")
  })
  invisible(desk)
}

#' @rdname desk_secret
#' @export
desk_secrets <- function(desk) {
  if (!inherits(given(desk, "desk", "desk"), "vetusta_desk")) {
    vetusta_stop(
      "desk", "This is not a desk.",
      todo = "open a desk with desk_open()"
    )
  }
  cards <- list.files(desk$sources, "[.]yml$")
  cards <- sub("[.]yml$", "", cards[!grepl("[.]calendar[.]yml$", cards)])
  rows <- lapply(cards, function(name) {
    card <- desk_source(desk, name)
    secrets <- access_secrets(card$access)
    data.frame(
      source = rep(name, length(secrets)),
      secret = secrets,
      from = vapply(secrets, secret_place, "", source = card, USE.NAMES = FALSE)
    )
  })
  do.call(
    rbind,
    c(
      list(
        data.frame(
          source = character(), secret = character(), from = character()
        )
      ),
      rows
    )
  )
}

secret_place <- function(name, source) {
  if (nzchar(Sys.getenv(name))) {
    "environment"
  } else if (nzchar(read_env_file(source$secrets)[[name]] %||% "")) {
    "env file"
  } else if (!is.null(keyring_secret(name))) {
    "keyring"
  } else {
    "not set"
  }
}
