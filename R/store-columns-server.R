# The column store's servers: requests over HTTP, and the meaning of their
# errors.

# "http://user@host1:8123,host2:8123/db?cluster=name": list(servers, database,
# cluster, user).
columns_uri <- function(uri) {
  stop_uri <- function(what, todo = "write it as http://host:8123/db") {
    vetusta_stop("archive", what, where = database_named(uri), todo = todo)
  }
  parts <- regmatches(
    uri,
    regexec("^(https?)://(([^@/?#]*)@)?([^/?#]+)/?([^?#]*)([?]([^#]*))?$", uri)
  )[[1]]
  if (!length(parts)) stop_uri("The URL of the column store cannot be read.")
  if (grepl(":", parts[4], fixed = TRUE) ||
    grepl("password=", parts[8], fixed = TRUE)) {
    stop_uri(
      "The URL of the column store contains a password.",
      paste0(
        "take it out, and keep ",
        "it in COLUMNS_PASSWORD, in the environment or among the desk's secrets"
      )
    )
  }
  # the name is part of statements
  if (!grepl("^[A-Za-z_][A-Za-z0-9_]*$", parts[6])) {
    stop_uri(
      paste0(
        "The URL of the column store needs a database, named by letters, ",
        "digits and _."
      )
    )
  }
  options <- strsplit(parts[8], "&", fixed = TRUE)[[1]]
  names <- sub("=.*", "", options)
  for (name in setdiff(names, "cluster")) {
    stop_uri(
      paste0(
        "The URL of the column store has an option ", name,
        " that is not known."
      ),
      suggest_word(name, "cluster")
    )
  }
  cluster <- sub("^[^=]*=", "", options[names == "cluster"])
  if (length(cluster) && !grepl("^[A-Za-z0-9_-]+$", cluster[1])) {
    stop_uri("The name of the cluster has signs in it.")
  }
  list(
    servers = paste0(
      parts[2], "://", strsplit(parts[5], ",", fixed = TRUE)[[1]]
    ),
    database = parts[6],
    cluster = if (length(cluster)) cluster[1],
    user = if (nzchar(parts[4])) utils::URLdecode(parts[4])
  )
}

# Sends a statement, with or without rows, and returns the answer's bytes. Each
# server of a cluster answers for all of it: if one does not answer, the next is
# tried and stays the first.
columns_send <- function(columns, statement, body = raw(), server = NULL,
                         settings = list()) {
  servers <- server %||%
    if (is.null(columns$cluster)) columns$servers[1] else columns$servers
  for (host in servers) {
    answer <- tryCatch(
      columns_ask(columns, statement, body, host, settings),
      error = identity
    )
    if (!inherits(answer, "error")) break
  }
  if (inherits(answer, "error")) {
    columns_stop(columns, servers[1], conditionMessage(answer))
  }
  if (is.null(server)) columns$servers <- union(host, columns$servers)
  if (answer$status_code != 200) {
    columns_stop(columns, host, rawToChar(answer$content))
  }
  answer$content
}

columns_ask <- function(columns, statement, body, server, settings) {
  handle <- curl::new_handle()
  headers <- c(
    if (!is.null(columns$user)) list("X-ClickHouse-User" = columns$user),
    if (!is.null(columns$password)) {
      list("X-ClickHouse-Key" = columns$password())
    }
  )
  if (length(headers)) {
    do.call(curl::handle_setheaders, c(list(handle), headers))
  }
  # a statement without rows is the body, so that it may be long
  alone <- !length(body)
  url <- paste0(
    server, "/?",
    paste(
      c(
        if (!alone) paste0("query=", curl::curl_escape(statement)),
        paste0(names(settings), "=", unlist(settings))[seq_along(settings)]
      ),
      collapse = "&"
    )
  )
  sent <- if (alone) charToRaw(statement) else body
  curl::handle_setopt(
    handle,
    post = TRUE,
    postfieldsize_large = length(sent),
    postfields = sent,
    # a forked process shares its parent's connections and could get its answers
    fresh_connect = Sys.getpid() != columns$process,
    forbid_reuse = Sys.getpid() != columns$process,
    connecttimeout = 10,
    low_speed_limit = 1,
    low_speed_time = columns_patience()
  )
  curl::curl_fetch_memory(url, handle)
}

columns_patience <- function() 120

# The rows that a statement returns, as a list of columns.
columns_get <- function(columns, ..., settings = list(), server = NULL) {
  answer <- columns_send(
    columns, paste0(..., " FORMAT Native"),
    settings = settings, server = server
  )
  tryCatch(native_read_cpp(answer), error = function(e) {
    # an error within an answer is text at its end
    columns_stop(
      columns, columns$servers[1],
      rawToChar(utils::tail(answer[answer != 0], 600))
    )
  })
}

columns_do <- function(columns, statement, server = columns$servers[1]) {
  invisible(columns_send(columns, statement, server = server))
}

# The meaning of the server's errors, and what to do.
columns_stop <- function(columns, server, text) {
  first <- substr(
    gsub(
      "[^[:print:]]+", " ",
      sub("\n.*", "", sub("^.*?(Code: [0-9]+)", "\\1", text, perl = TRUE))
    ),
    1, 300
  )
  for (entry in columns_errors) {
    if (grepl(entry[1], text, ignore.case = TRUE, perl = TRUE)) {
      vetusta_stop(
        "archive",
        entry[2],
        where = paste0(server, ": ", first),
        todo = entry[3],
        away = identical(entry[4], "away")
      )
    }
  }
  vetusta_stop(
    "archive",
    "The column store failed.",
    where = paste0(server, ": ", first),
    todo = "check its log, and run the command again; no collected row is lost"
  )
}

columns_errors <- list(
  c(
    paste0(
      "could(n't| not) (connect|resolve)|connection refused|timed? ",
      "?out|too slow|empty reply|reset"
    ),
    "The column store cannot be reached.",
    paste0(
      "start it, or wait; what is not in it yet stays in the ",
      "archive, and goes over later"
    ),
    "away"
  ),
  c(
    "All connection tries failed|Code: 279|Code: 209|Code: 210",
    "A server of the column store is away.",
    paste0(
      "start it, or wait: its rows are there when it answers again; partial ",
      "results are not given"
    ),
    "away"
  ),
  c(
    paste0(
      "Wrong password|Authentication failed|Code: 193|Code: 194|Code: ",
      "192|Code: 516"
    ),
    "The column store refuses the user or its password.",
    "set COLUMNS_PASSWORD in the environment or among the desk's secrets"
  ),
  c(
    "Database .* doesn't exist|Code: 81",
    "The column store has no database of this name.",
    "look at the name, or have it made: CREATE DATABASE name"
  ),
  c(
    "Table .* doesn't exist|Code: 60",
    "A table of the column store is not there.",
    paste0(
      "look whether the server has its data folder; ",
      "`vetusta archive repair` shows what can be put back"
    )
  ),
  c(
    "Not enough privileges|readonly mode|Code: 164|Code: 497|Code: 291",
    "The column store's user has no rights for this.",
    "use a user that may write"
  ),
  c(
    "No space left|Not enough space|Code: 243|Code: 76|Cannot write",
    "The disk of the column store is full.",
    paste0(
      "free some space; what is not in it yet stays in the archive, and ",
      "goes over later"
    )
  ),
  c(
    "Memory limit|Code: 241",
    "The column store has not enough memory for this.",
    "use a shorter window, or raise max_memory_usage"
  )
)
