# Tokens kept between runs, in the file desk.tokens beside desk.env: for logins
# with a consent page, for refresh tokens that are valid once, and for services
# that allow few logins. The file is a database: its lock makes two runs renew a
# token one after the other, and the second uses what the first was given.

keeps_tokens <- function(access) {
  isTRUE(access$keep) || identical(access$grant, "authorization_code")
}

tokens_path <- function(source) {
  file.path(dirname(source$secrets), "desk.tokens")
}

# A token for requests: the kept one while it is valid, else a new one.
# `refused` is a token that the service no longer accepts.
kept_token <- function(source, refused = NULL) {
  with_tokens(source, function(kept, keep) {
    if (!is.null(kept$value) && !identical(kept$value, refused) &&
      as.numeric(Sys.time()) < kept$ends) {
      return(kept)
    }
    answer <- renewed_token(source, kept$refresh)
    if (is.null(answer) &&
      identical(source$access$grant, "authorization_code")) {
      vetusta_stop(
        "access",
        paste0(
          "The source ", source$source,
          if (
            is.null(kept$refresh)
          ) {
            " needs a login."
          } else {
            " needs a new login."
          }
        ),
        where = paste0(source$file, ", access"),
        todo = paste0("run `vetusta secrets login ", source$source, "`")
      )
    }
    answer <- answer %||% ask_token(source)
    keep(answer)
    answer
  })
}

# Runs `work(kept, keep)` under the lock of the file. `keep` writes a token.
with_tokens <- function(source, work) {
  path <- tokens_path(source)
  # a token belongs to its service, also where two cards have one name
  key <- paste(source$source, token_url(source))
  if (!file.exists(path)) {
    dir.create(dirname(path), showWarnings = FALSE, recursive = TRUE)
    mask <- Sys.umask("077")
    on.exit(Sys.umask(mask))
    file.create(path)
    Sys.umask(mask)
  }
  connection <- DBI::dbConnect(RSQLite::SQLite(), path, synchronous = NULL)
  on.exit(DBI::dbDisconnect(connection), add = TRUE)
  RSQLite::sqliteSetBusyHandler(connection, 120000L)
  tryCatch(DBI::dbExecute(connection, "BEGIN IMMEDIATE"), error = function(e) {
    vetusta_stop(
      "access",
      paste0(
        "The file of kept tokens cannot be used: ", conditionMessage(e), "."
      ),
      where = path,
      todo = paste0(
        "if it is damaged, take it away, and log in again with ",
        "`vetusta secrets login ", source$source, "`"
      )
    )
  })
  done <- FALSE
  on.exit(
    if (!done) DBI::dbExecute(connection, "ROLLBACK"),
    add = TRUE, after = FALSE
  )
  DBI::dbExecute(
    connection,
    paste(
      "CREATE TABLE IF NOT EXISTS token (source TEXT PRIMARY KEY, value TEXT,",
      "ends REAL, refresh TEXT)"
    )
  )
  row <- DBI::dbGetQuery(
    connection, "SELECT value, ends, refresh FROM token WHERE source = ?",
    params = list(key)
  )
  kept <- if (nrow(row)) Filter(Negate(is.na), as.list(row)) else list()
  out <- work(kept, function(token) {
    DBI::dbExecute(
      connection, "INSERT OR REPLACE INTO token VALUES (?, ?, ?, ?)",
      params = list(
        key, token$value, token$ends,
        token$refresh %||% NA_character_
      )
    )
  })
  DBI::dbExecute(connection, "COMMIT")
  done <- TRUE
  out
}
