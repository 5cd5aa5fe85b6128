# All that is particular to SQLite.

sqlite_connect <- function(path) {
  connection <- tryCatch(DBI::dbConnect(RSQLite::SQLite(), sqlite_name(path), loadable.extensions = FALSE, synchronous = NULL), error = function(e) stop(archive_error(e, path)))
  tryCatch(
    {
      DBI::dbExecute(connection, "PRAGMA busy_timeout = 30000")
      # somebody else's database is left as it is: nothing has been written yet
      sqlite_check_own(connection, path)
      DBI::dbExecute(connection, "PRAGMA foreign_keys = ON")
      DBI::dbGetQuery(connection, "PRAGMA journal_mode = WAL")
      DBI::dbExecute(connection, "PRAGMA synchronous = NORMAL")
    },
    error = function(e) {
      DBI::dbDisconnect(connection)
      stop(archive_error(e, path))
    }
  )
  connection
}

# A path as it is in bytes: where the locale does not know its letters, R would write others in their place.
sqlite_name <- function(path) {
  bytes <- charToRaw(path.expand(path))
  if (all(bytes < as.raw(128))) {
    return(path)
  }
  plain <- bytes %in% charToRaw("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789/._-~")
  signs <- sprintf("%%%02X", as.integer(bytes))
  signs[plain] <- rawToChar(bytes[plain], multiple = TRUE)
  paste0("file:", paste(signs, collapse = ""))
}

archive_form <- 4

# A file without tables becomes an archive; one with tables must be one, of a form that is known.
sqlite_check_own <- function(connection, path) {
  tables <- DBI::dbGetQuery(connection, "SELECT name FROM sqlite_master WHERE type = 'table'")$name
  if (!length(tables)) {
    return(invisible())
  }
  form <- if (all(c("meta", "series", "segments") %in% tables)) tryCatch(DBI::dbGetQuery(connection, "SELECT value FROM meta WHERE name = 'form'")$value, error = function(e) NULL)
  form <- suppressWarnings(as.numeric(form))
  if (length(form) != 1 || is.na(form)) {
    vetusta_stop("archive", "The file is a database and no archive.", where = path, todo = "give the path of an archive, or of a file that is not there yet")
  }
  if (form > archive_form) {
    vetusta_stop("archive", paste0("The archive is of the form ", form, ", and this version knows forms up to ", archive_form, "."), where = path, todo = "install a newer vetusta")
  }
}

archive_tables <- c(
  "CREATE TABLE meta (name TEXT PRIMARY KEY, value TEXT NOT NULL)",
  "CREATE TABLE series (id INTEGER PRIMARY KEY, source TEXT NOT NULL, shape TEXT NOT NULL, symbol TEXT NOT NULL,
     interval TEXT NOT NULL, side TEXT NOT NULL DEFAULT '', UNIQUE (source, shape, symbol, interval, side))",
  "CREATE TABLE segments (id INTEGER PRIMARY KEY, series INTEGER NOT NULL REFERENCES series (id), first REAL NOT NULL,
     last REAL NOT NULL, rows INTEGER NOT NULL, level INTEGER NOT NULL, body BLOB NOT NULL)",
  "CREATE INDEX segments_place ON segments (series, first)",
  "CREATE TABLE journal (id INTEGER PRIMARY KEY, run TEXT NOT NULL, source TEXT NOT NULL, offer TEXT NOT NULL, symbol TEXT,
     asked REAL NOT NULL, seconds REAL, status INTEGER, bytes INTEGER, rows INTEGER, outcome TEXT NOT NULL, address TEXT,
     message TEXT)",
  "CREATE TABLE coverage (series INTEGER NOT NULL REFERENCES series (id), session TEXT NOT NULL, start REAL NOT NULL, end REAL NOT NULL)",
  "CREATE INDEX coverage_place ON coverage (series, session, start)",
  "CREATE TABLE findings (id INTEGER PRIMARY KEY, journal INTEGER, series INTEGER, symbol TEXT, time REAL, place TEXT,
     fault TEXT NOT NULL, detail TEXT, found REAL NOT NULL)",
  "CREATE TABLE vintages (series INTEGER NOT NULL REFERENCES series (id), time REAL NOT NULL, was TEXT NOT NULL,
     replaced REAL NOT NULL, journal INTEGER)",
  "CREATE INDEX vintages_place ON vintages (series, time)",
  "CREATE TABLE records (id INTEGER PRIMARY KEY, source TEXT NOT NULL, offer TEXT NOT NULL, shape TEXT NOT NULL, key TEXT NOT NULL,
     body TEXT NOT NULL, seen REAL NOT NULL, UNIQUE (source, offer, key))",
  "CREATE TABLE record_vintages (record INTEGER NOT NULL REFERENCES records (id), was TEXT NOT NULL, replaced REAL NOT NULL, journal INTEGER)",
  "CREATE TABLE reached (source TEXT NOT NULL, offer TEXT NOT NULL, start TEXT NOT NULL, following TEXT NOT NULL, page INTEGER NOT NULL,
     before INTEGER NOT NULL, PRIMARY KEY (source, offer, start))",
  "CREATE TABLE jobs (source TEXT NOT NULL, offer TEXT NOT NULL, start TEXT NOT NULL, look TEXT NOT NULL, link TEXT, PRIMARY KEY (source, offer, start))",
  "CREATE TABLE raw (journal INTEGER PRIMARY KEY, source TEXT NOT NULL, offer TEXT NOT NULL, hash TEXT NOT NULL, about TEXT NOT NULL, body BLOB NOT NULL)",
  "CREATE TABLE tokens (source TEXT NOT NULL, taken REAL NOT NULL)",
  "CREATE INDEX tokens_place ON tokens (source, taken)"
)

# What came after the first form; an older archive gets it when it is opened.
archive_changes <- list(
  "2" = function() observation_tables,
  "3" = function() "CREATE TABLE claims (call TEXT PRIMARY KEY, process INTEGER NOT NULL, since REAL NOT NULL, done REAL)",
  "4" = function() c(
    "ALTER TABLE segments ADD COLUMN hash TEXT",
    # claims, and places that were reached, are of runs that are under way
    "DROP TABLE claims",
    "CREATE TABLE claims (call TEXT PRIMARY KEY, host TEXT NOT NULL, process INTEGER NOT NULL, began REAL NOT NULL, since REAL NOT NULL, done REAL)",
    "DROP TABLE reached",
    "CREATE TABLE reached (source TEXT NOT NULL, offer TEXT NOT NULL, start TEXT NOT NULL, key TEXT NOT NULL, from_ REAL, to_ REAL, following TEXT NOT NULL, page INTEGER NOT NULL,
       before INTEGER NOT NULL, PRIMARY KEY (source, offer, start))",
    "CREATE TABLE row_coverage (source TEXT NOT NULL, offer TEXT NOT NULL, key TEXT NOT NULL, start REAL NOT NULL, end REAL NOT NULL)",
    "CREATE INDEX row_coverage_place ON row_coverage (source, offer, key, start)",
    "CREATE TABLE rounds (source TEXT NOT NULL, offer TEXT NOT NULL, want TEXT NOT NULL, began REAL NOT NULL, PRIMARY KEY (source, offer, want))",
    "CREATE TABLE asked (source TEXT NOT NULL, offer TEXT NOT NULL, start TEXT NOT NULL, at REAL NOT NULL, PRIMARY KEY (source, offer, start)) WITHOUT ROWID",
    "CREATE TABLE series_attributes (series INTEGER NOT NULL REFERENCES series (id), since REAL NOT NULL, attributes TEXT NOT NULL, PRIMARY KEY (series, since)) WITHOUT ROWID",
    "INSERT INTO series_attributes SELECT series, -1e18, attributes FROM series_words",
    "CREATE INDEX journal_place ON journal (source, offer, id)", "CREATE INDEX raw_place ON raw (source, offer)", "CREATE INDEX record_vintages_place ON record_vintages (record)"
  )
)

# Creates what is not there yet, in one transaction, so that two processes may open a new archive at once.
sqlite_prepare <- function(connection) {
  form_of <- function() as.numeric(DBI::dbGetQuery(connection, "SELECT value FROM meta WHERE name = 'form'")$value)
  ready <- tryCatch(isTRUE(form_of() == archive_form), error = function(e) FALSE)
  if (ready) {
    return(invisible())
  }
  DBI::dbExecute(connection, "BEGIN IMMEDIATE")
  tryCatch(
    {
      if (!"meta" %in% DBI::dbGetQuery(connection, "SELECT name FROM sqlite_master WHERE type = 'table'")$name) {
        for (statement in archive_tables) DBI::dbExecute(connection, statement)
        DBI::dbExecute(connection, "INSERT INTO meta VALUES ('form', '1')")
      }
      for (form in names(archive_changes)[as.numeric(names(archive_changes)) > form_of()]) {
        for (statement in archive_changes[[form]]()) DBI::dbExecute(connection, statement)
        DBI::dbExecute(connection, "UPDATE meta SET value = ? WHERE name = 'form'", params = list(form))
      }
      DBI::dbExecute(connection, "COMMIT")
    },
    error = function(e) {
      DBI::dbExecute(connection, "ROLLBACK")
      stop(e)
    }
  )
}

# Several reads as of one moment, whoever writes meanwhile.
in_snapshot <- function(archive, work) {
  if (isTRUE(archive$inside)) {
    return(work())
  }
  connection <- archive$connection
  tryCatch(DBI::dbExecute(connection, "BEGIN"), error = function(e) stop(archive_error(e, archive$path)))
  archive$inside <- TRUE
  on.exit({
    archive$inside <- FALSE
    try(DBI::dbExecute(connection, "COMMIT"), silent = TRUE)
  })
  work()
}

# A transaction that takes the writer's place at once: two collectors never fail each other halfway.
in_transaction <- function(archive, work) {
  connection <- archive$connection
  path <- archive$path
  tryCatch(DBI::dbExecute(connection, "BEGIN IMMEDIATE"), error = function(e) stop(archive_error(e, path)))
  done <- FALSE
  archive$inside <- TRUE
  on.exit({
    archive$inside <- FALSE
    if (!done) try(DBI::dbExecute(connection, "ROLLBACK"), silent = TRUE)
  })
  result <- tryCatch(work(), vetusta_error = stop, error = function(e) stop(archive_error(e, path)))
  tryCatch(DBI::dbExecute(connection, "COMMIT"), error = function(e) stop(archive_error(e, path)))
  done <- TRUE
  result
}

archive_error <- function(error, path) {
  if (inherits(error, "vetusta_error")) {
    return(error)
  }
  text <- conditionMessage(error)
  known <- list(
    c("locked|busy", "The archive is in use by another process for too long.", "let the other one end, or stop it, and run it again: it goes on"),
    c("full", "The disk is full.", "free some space and run it again: it goes on"),
    c("readonly|read-only", "The archive cannot be written.", "look at the rights of the file and of its folder"),
    c("is a directory", "The archive is a folder.", "give the path of a file"),
    c("not a database|malformed", "The file is no archive, or it is damaged.", "give the path of an archive, or bring back a copy"),
    c("unable to open", "The archive cannot be opened.", "look whether its folder is there and yours to write")
  )
  for (entry in known) {
    if (grepl(entry[1], text, ignore.case = TRUE)) {
      return(vetusta_error("archive", entry[2], where = path, todo = entry[3]))
    }
  }
  vetusta_error("archive", paste0("The archive failed: ", text), where = path, todo = "run it again; if it stays so, look whether the file is whole")
}
