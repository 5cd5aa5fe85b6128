# The meaning of the server's errors, and what to do.

postgres_error <- function(error, path) {
  if (inherits(error, "vetusta_error")) {
    return(error)
  }
  # the server's own message, without the driver's prefix
  text <- trimws(sub("^Failed to [A-Za-z ]*: *", "", conditionMessage(error)))
  first <- sub("\n.*", "", text)
  for (entry in postgres_errors) {
    matches <- regmatches(
      text, regexec(entry[1], text, ignore.case = TRUE)
    )[[1]]
    if (length(matches)) {
      words <- if (length(matches) > 1) matches[2] else ""
      reason <- if (is.na(entry[4])) "" else entry[4]
      return(
        vetusta_error(
          "archive",
          sub("%s", words, entry[2], fixed = TRUE),
          where = paste0(path, ": ", sub("^(ERROR|FATAL): *", "", first)),
          todo = entry[3],
          reason = reason
        )
      )
    }
  }
  vetusta_error(
    "archive", paste0("The archive failed: ", first),
    where = path,
    todo = "run it again; if the error stays, ask the server's administrator",
    reason = ""
  )
}

postgres_errors <- list(
  c("times are stored", "times are stored", "", ""),
  c(
    "password authentication failed|no password supplied|authentication failed",
    "The server refuses the role or its password.",
    paste0(
      "set the password in PGPASSWORD, in ~/.pgpass, or as ",
      "ARCHIVE_PASSWORD among the ", "desk's secrets"
    )
  ),
  c(
    "role (\".*?\") does not exist", "The server has no role %s.",
    "give the role as postgresql://role@host/name, or have it made: createuser"
  ),
  c(
    "database (\".*?\") does not exist", "The server has no database %s.",
    "look at the name, or have it made: createdb"
  ),
  c(
    "no pg_hba.conf entry",
    "The server accepts no connection from this machine.",
    "have a line for this machine put into the server's pg_hba.conf"
  ),
  c(
    "invalid connection option (\".*?\")",
    "The URL has an option %s that is not known.",
    "look at the options behind the question mark"
  ),
  c(
    paste0(
      "invalid ",
      "(sslmode|channel_binding|gssencmode|target_session_attrs|port|",
      "integer) value.*"
    ),
    "An option of the URL has a value that is not known.",
    "look at the options behind the question mark"
  ),
  c(
    "SSL|certificate", "The connection cannot be made secret.",
    paste0(
      "look at sslmode and sslrootcert in the URL, and at the server's ",
      "certificate"
    )
  ),
  c(
    "could not translate host name", "The server's name is not known.",
    "look at the host in the URL"
  ),
  c(
    paste0(
      "cannot connect now|the database system is (starting|shutting|in ",
      "recovery)|the ", "database system is not yet"
    ),
    "The server is not ready yet.", "run it again in a while: it continues",
    "lost"
  ),
  c(
    "too many (clients|connections)|remaining connection slots",
    "The server has no connection left.",
    paste0(
      "run it again in a while: it continues; or raise max_connections: a ",
      "collector takes one, and sometimes a second"
    ), "full"
  ),
  c(
    paste0(
      "server closed the connection|terminating connection|connection ",
      "(was )?not open|",
      "could not (send|receive) data|connection to server was ",
      "lost|connection reset|",
      paste0(
        "no connection to the server|lost connection to database|SSL ",
        "SYSCALL|consistent ", "state has not been"
      )
    ),
    "The connection to the archive's server was cut.",
    "check whether the server runs, and run it again: it continues", "lost"
  ),
  c(
    paste0(
      "connection refused|timeout expired|connection timed out|no route ",
      "to host|network is unreach"
    ),
    "The archive's server cannot be reached.",
    paste0(
      "check host and port, and that the server runs; then run the command ",
      "again: it continues"
    ),
    "lost"
  ),
  c(
    "deadlock detected", "The archive is being written by others too.",
    "run it again: it continues", "again"
  ),
  c(
    "could not serialize|conflict with recovery",
    "The archive is being written by others too.", "run it again: it continues",
    "again"
  ),
  c(
    "permission denied for schema", "The role has no rights for the schema.",
    paste0(
      "have its owner run: GRANT USAGE ON SCHEMA vetusta TO the role; and see ",
      "docs/scale.md"
    )
  ),
  c(
    "permission denied for (sequence \\w+)",
    "The role has no rights for the %s.",
    paste0(
      "have its owner run: GRANT USAGE ON ALL SEQUENCES IN SCHEMA vetusta TO ",
      "the role"
    )
  ),
  c(
    "permission denied for (\\w+ \\w+)", "The role has no rights for the %s.",
    paste0(
      "have its owner run: GRANT SELECT ON ALL TABLES IN SCHEMA vetusta TO ",
      "the role, for writers GRANT SELECT, INSERT, UPDATE, DELETE; see ",
      "docs/scale.md"
    )
  ),
  c(
    "permission denied|must be owner|insufficient privilege",
    "The role has no rights for this.",
    "use another role, or have the right granted: see docs/scale.md"
  ),
  c(
    "read-only transaction|recovery is in progress|during recovery",
    "The archive can only be read here.",
    paste0(
      "for writing, take a role that may, and the server's primary and ",
      "not its standby"
    )
  ),
  c(
    "No space left|could not extend file|disk full|could not write",
    "The disk of the archive's server is full.",
    "free some space and run it again: it continues"
  ),
  c(
    "out of shared memory|out of memory", "The server has no memory left.",
    paste0(
      "raise max_locks_per_transaction or its memory, and run it again: ",
      "it continues"
    )
  ),
  c(
    paste0(
      "relation .* does not exist|function .* does not exist|column .* ",
      "does not exist"
    ),
    "The archive in the database is damaged.",
    "restore a backup, or have the schema `vetusta` looked at"
  )
)
