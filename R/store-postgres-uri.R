# Connection URIs (PostgreSQL, 34.1.1.2).

# The parts of a URI for the driver; several hosts are separated by commas.
# `kind` is the class of errors.
server_uri <- function(uri, kind) {
  stop_uri <- function(what) {
    vetusta_stop(
      kind, what,
      where = database_named(uri),
      todo = "write it as postgresql://user@host:5432/name"
    )
  }
  parts <- regmatches(
    uri,
    regexec(
      "^postgres(ql)?://(([^@/?#]*)@)?([^/?#]*)(/([^?#]*))?([?]([^#]*))?$", uri
    )
  )[[1]]
  if (!length(parts)) stop_uri("The connection URI cannot be read.")
  text <- function(x) if (length(x) && nzchar(x)) utils::URLdecode(x)
  user <- regmatches(parts[4], regexec("^([^:]*)(:(.*))?$", parts[4]))[[1]]
  hosts <- strsplit(parts[5], ",", fixed = TRUE)[[1]]
  ports <- ifelse(
    grepl(":[^]:]*$", hosts), sub("^.*:([^]:]*)$", "\\1", hosts), ""
  )
  if (any(!grepl("^[0-9]*$", ports))) {
    stop_uri("The port in the URI is no number.")
  }
  hosts <- gsub("^\\[|\\]$", "", sub(":[^]:]*$", "", hosts))
  given <- list(
    host = text(paste(hosts, collapse = ",")),
    port = if (any(nzchar(ports))) paste(ports, collapse = ","),
    user = text(user[2]),
    password = text(user[4]),
    dbname = text(parts[7])
  )
  given <- given[lengths(given) > 0]
  for (part in strsplit(parts[9], "&", fixed = TRUE)[[1]]) {
    name <- utils::URLdecode(sub("=.*", "", part))
    if (!grepl("=", part, fixed = TRUE)) {
      stop_uri(paste0("The option ", name, " of the URI has no value."))
    }
    if (!name %in% server_options) {
      vetusta_stop(
        kind,
        paste0("The URI has an option ", name, " that is not known."),
        where = database_named(uri),
        todo = suggest_word(name, server_options)
      )
    }
    given[[name]] <- utils::URLdecode(sub("^[^=]*=", "", part))
  }
  given
}

# The parameters of libpq from version 13 on.
server_options <- c(
  "host", "hostaddr", "port", "dbname", "user", "password", "passfile",
  "require_auth", "channel_binding", "connect_timeout", "client_encoding",
  "options", "application_name", "fallback_application_name", "keepalives",
  "keepalives_idle", "keepalives_interval", "keepalives_count",
  "tcp_user_timeout", "gssencmode", "sslmode", "sslcompression", "sslcert",
  "sslkey", "sslpassword", "sslcertmode", "sslrootcert", "sslcrl", "sslcrldir",
  "sslsni", "requirepeer", "ssl_min_protocol_version",
  "ssl_max_protocol_version", "krbsrvname", "gsslib", "service",
  "target_session_attrs", "load_balance_hosts"
)

# A URI without secrets.
database_named <- function(database) {
  named <- sub("^([A-Za-z0-9+.-]+://[^:@/]*):[^@/]*@", "\\1:...@", database)
  gsub("((ssl)?password=)[^&#]*", "\\1...", named)
}
