# The tables of an archive in SQLite.

# The form of archives that this version creates. Archives from the oldest form
# on are read, and changed to this one when they are opened for writing; others
# are refused.
archive_form <- 4
archive_form_oldest <- 2

# Whether a form is read, and changed when the archive is written.
is_earlier_form <- function(form) {
  isTRUE(form >= archive_form_oldest && form < archive_form)
}

older_archive <- function(where) {
  vetusta_stop(
    "archive",
    paste0(
      "The archive was made by a version of vetusta before its first ",
      "release, and this version cannot read it."
    ),
    where = where,
    todo = paste0(
      "export it with the version that made it, or collect into a ",
      "new archive"
    )
  )
}

newer_archive <- function(form, where) {
  vetusta_stop(
    "archive",
    paste0(
      "The archive is of the form ", form, ", and this version reads ",
      "the form ", archive_form, "."
    ),
    where = where, todo = "install a newer vetusta"
  )
}

sqlite_collectors <- "CREATE TABLE collectors (host TEXT NOT NULL,
  process INTEGER NOT NULL, began REAL NOT NULL, started REAL NOT NULL,
  seen REAL NOT NULL, lease REAL NOT NULL, doing TEXT, PRIMARY KEY (host,
  process, began)) WITHOUT ROWID"

# What the column store has of each series.
sqlite_moved <- "CREATE TABLE moved (series INTEGER PRIMARY KEY REFERENCES
  series (id), first REAL NOT NULL, last REAL NOT NULL, times REAL NOT NULL)"

# Checksums of what the column store has (store-columns-sums.R).
sqlite_checksums <- "CREATE TABLE IF NOT EXISTS checksums (series INTEGER
  NOT NULL, part INTEGER NOT NULL, rows REAL NOT NULL, hash TEXT NOT NULL,
  next_rows REAL, next_hash TEXT, PRIMARY KEY (series, part)) WITHOUT ROWID"

# Where stored rows came from (store-sql-origins.R).
sqlite_origins <- c(
  "CREATE TABLE IF NOT EXISTS origins (id INTEGER PRIMARY KEY,
    journal INTEGER NOT NULL, series INTEGER, first REAL NOT NULL,
    last REAL NOT NULL, place TEXT, hash TEXT, runs BLOB)",
  "CREATE INDEX IF NOT EXISTS origins_place ON origins (series, first)"
)

# The number of a page's series.
sqlite_page_series <- "coalesce(NEW.series, (SELECT id FROM series WHERE
         source = NEW.source AND dataset = NEW.dataset AND key = NEW.key AND
         frequency = NEW.frequency))"

sqlite_tables <- c(
  sqlite_collectors,
  "CREATE TABLE IF NOT EXISTS meta (name TEXT PRIMARY KEY,
    value TEXT NOT NULL)",
  "CREATE TABLE series (id INTEGER PRIMARY KEY, source TEXT NOT NULL,
    dataset TEXT NOT NULL, shape TEXT NOT NULL,
     key TEXT NOT NULL, frequency TEXT NOT NULL, dimensions TEXT NOT NULL,
     UNIQUE (source,
       dataset, key, frequency))",
  sqlite_moved,
  sqlite_origins,
  sqlite_checksums,
  "CREATE TABLE attributes (series INTEGER NOT NULL REFERENCES series (id),
    known REAL NOT NULL, attributes TEXT NOT NULL,
     PRIMARY KEY (series, known)) WITHOUT ROWID",
  # rows counts all releases, times the distinct times
  "CREATE TABLE segments (id INTEGER PRIMARY KEY,
    series INTEGER NOT NULL REFERENCES series (id), first REAL NOT NULL,
     last REAL NOT NULL, rows INTEGER NOT NULL, times INTEGER NOT NULL,
     level INTEGER NOT NULL,
       body BLOB NOT NULL)",
  "CREATE INDEX segments_place ON segments (series, first, last, times)",
  "CREATE TABLE frames (id INTEGER PRIMARY KEY, source TEXT NOT NULL,
    dataset TEXT NOT NULL, shape TEXT NOT NULL,
     place TEXT NOT NULL, at REAL NOT NULL, rows INTEGER NOT NULL,
     body BLOB NOT NULL)",
  "CREATE INDEX frames_place ON frames (source, dataset, place, at)",
  "CREATE TABLE records (id INTEGER PRIMARY KEY, source TEXT NOT NULL,
    dataset TEXT NOT NULL, shape TEXT NOT NULL,
     key TEXT NOT NULL, known REAL NOT NULL, body TEXT NOT NULL, UNIQUE (source,
     dataset, key,
       known))",
  "CREATE TABLE types (source TEXT NOT NULL, dataset TEXT NOT NULL,
    name TEXT NOT NULL, type TEXT NOT NULL,
     PRIMARY KEY (source, dataset, name)) WITHOUT ROWID",
  paste0(
    "CREATE TABLE coverage (source TEXT NOT NULL, dataset TEXT NOT ",
    "NULL, key TEXT NOT NULL, ", "start REAL NOT NULL, end REAL NOT NULL)"
  ),
  "CREATE INDEX coverage_place ON coverage (source, dataset, key, start)",
  "CREATE TABLE journal (id INTEGER PRIMARY KEY, run TEXT NOT NULL,
    source TEXT NOT NULL, dataset TEXT NOT NULL, symbol TEXT,
     asked REAL NOT NULL, seconds REAL, status INTEGER, bytes INTEGER,
     rows INTEGER, outcome TEXT
       NOT NULL, url TEXT,
     message TEXT)",
  "CREATE INDEX journal_place ON journal (source, dataset, id)",
  "CREATE TABLE rejected (id INTEGER PRIMARY KEY, journal INTEGER,
    symbol TEXT, time REAL, place TEXT, reason TEXT NOT NULL,
     detail TEXT, found REAL NOT NULL)",
  "CREATE TABLE notes (kind TEXT NOT NULL, source TEXT NOT NULL,
    dataset TEXT NOT NULL, key TEXT NOT NULL, at REAL NOT NULL,
     value TEXT, PRIMARY KEY (kind, source, dataset, key)) WITHOUT ROWID",
  "CREATE TABLE claims (request TEXT PRIMARY KEY, host TEXT NOT NULL,
    process INTEGER NOT NULL, began REAL NOT NULL,
     since REAL NOT NULL, done REAL)",
  paste0(
    "CREATE TABLE tokens (source TEXT NOT NULL, taken REAL NOT NULL, ",
    "weight REAL NOT NULL DEFAULT 1)"
  ),
  "CREATE INDEX tokens_place ON tokens (source, taken)",
  "CREATE TABLE raw (journal INTEGER PRIMARY KEY, source TEXT NOT NULL,
    dataset TEXT NOT NULL, hash TEXT NOT NULL,
     about TEXT NOT NULL, body BLOB NOT NULL)",
  "CREATE INDEX raw_place ON raw (source, dataset)",
  "CREATE TABLE structures (source TEXT NOT NULL, url TEXT NOT NULL,
    etag TEXT, modified TEXT, fetched REAL NOT NULL,
     body BLOB NOT NULL, PRIMARY KEY (source, url))",
  # a covered range, joined with adjacent ones
  "CREATE VIEW coverage_in AS SELECT source, dataset, key, start,
    end FROM coverage",
  "CREATE TRIGGER coverage_in_put INSTEAD OF INSERT ON coverage_in BEGIN
     INSERT INTO coverage SELECT NEW.source, NEW.dataset, NEW.key,
     min(NEW.start,
       coalesce(min(start), NEW.start)),
       max(NEW.end, coalesce(max(end), NEW.end)) FROM coverage WHERE source =
       NEW.source AND
         dataset = NEW.dataset
       AND key = NEW.key AND start <= NEW.end AND end >= NEW.start;
     DELETE FROM coverage WHERE source = NEW.source AND dataset = NEW.dataset
     AND key = NEW.key
       AND start <= NEW.end
       AND end >= NEW.start AND rowid < (SELECT max(rowid) FROM coverage WHERE
       source = NEW.source
         AND dataset = NEW.dataset AND key = NEW.key AND start <= NEW.end AND
         end >= NEW.start);
   END",
  # a page: its journal row, its series if its number is unknown, its segment,
  # coverage, the place reached, and the end of a claim
  page_in = "CREATE VIEW page_in AS SELECT j.run, j.source, j.dataset, j.symbol,
    j.asked, j.seconds, j.status, j.bytes, j.rows,
     j.outcome, j.url, j.message, s.series, s.first, s.last,
     s.rows AS row_count, s.times, s.body,
       c.key AS cover, c.start,
     c.end, n.kind, n.key AS place, n.value, k.request, n.at AS now, r.shape,
     r.key, r.frequency, r.dimensions, o.place AS rows_at, o.hash FROM
     journal j, segments s, coverage c, notes n, claims k, series r, origins o",
  page_put = paste0(
    "CREATE TRIGGER page_in_put INSTEAD OF INSERT ON page_in BEGIN
     INSERT INTO series (source, dataset, shape, key, frequency, dimensions)
       SELECT NEW.source, NEW.dataset, NEW.shape, NEW.key, NEW.frequency,
       NEW.dimensions
         WHERE NEW.key IS NOT NULL
       ON CONFLICT (source, dataset, key, frequency) DO NOTHING;
     SELECT RAISE(ABORT, 'times are stored') WHERE NEW.body IS NOT NULL AND
     (EXISTS (SELECT 1 FROM
       segments WHERE series = ",
    sqlite_page_series,
    " AND first <= NEW.last
         AND last >= NEW.first)
       OR EXISTS (SELECT 1 FROM moved WHERE series = ",
    sqlite_page_series,
    "
         AND first <= NEW.last AND last >= NEW.first));
     INSERT INTO journal (run, source, dataset, symbol, asked, seconds, status,
     bytes, rows,
       outcome, url, message)
       VALUES (NEW.run, NEW.source, NEW.dataset, NEW.symbol, NEW.asked,
       NEW.seconds, NEW.status,
         NEW.bytes, NEW.rows,
         NEW.outcome, NEW.url, NEW.message);
     INSERT INTO origins (journal, series, first, last, place, hash)
       SELECT last_insert_rowid(), ",
    sqlite_page_series,
    ", NEW.first, NEW.last, NEW.rows_at, NEW.hash WHERE NEW.body IS NOT NULL;
     INSERT INTO segments (series, first, last, rows, times, level, body)
       SELECT ",
    sqlite_page_series,
    ", NEW.first, NEW.last, NEW.row_count, NEW.times, 0, NEW.body
         WHERE NEW.body IS NOT NULL;
     INSERT INTO coverage_in SELECT NEW.source, NEW.dataset, NEW.cover,
     NEW.start, NEW.end WHERE
       NEW.cover IS NOT NULL;
     INSERT INTO notes SELECT NEW.kind, NEW.source, NEW.dataset, NEW.place,
     NEW.now, NEW.value
       WHERE NEW.kind IS NOT NULL AND NEW.value IS NOT NULL
       ON CONFLICT (kind, source, dataset, key) DO UPDATE SET at = excluded.at,
       value =
         excluded.value;
     DELETE FROM notes WHERE NEW.value IS NULL AND kind = NEW.kind AND source =
     NEW.source AND
       dataset = NEW.dataset
       AND key = NEW.place;
     UPDATE claims SET done = NEW.now WHERE request = NEW.request;
   END"
  )
)

# Changes an archive of an earlier form to the present one.
sqlite_renew <- function(connection) {
  for (statement in c(
    sqlite_origins, sqlite_checksums, "DROP TRIGGER IF EXISTS page_in_put",
    "DROP VIEW IF EXISTS page_in",
    sqlite_tables[c("page_in", "page_put")],
    paste0(
      "UPDATE meta SET value = '", archive_form, "' WHERE name = 'version'"
    )
  )) {
    DBI::dbExecute(connection, statement)
  }
}

# Creates missing tables in one transaction, so that two processes may open a
# new archive at once.
sqlite_prepare <- function(connection) {
  ready <- tryCatch(
    isTRUE(sqlite_form(connection) == archive_form),
    error = function(e) FALSE
  )
  if (ready) {
    return(invisible())
  }
  DBI::dbExecute(connection, "BEGIN IMMEDIATE")
  tryCatch(
    {
      there <- "meta" %in%
        DBI::dbGetQuery(
          connection, "SELECT name FROM sqlite_master WHERE type = 'table'"
        )$name
      # another process may have made the archive since
      if (there && is_earlier_form(sqlite_form(connection))) {
        sqlite_renew(connection)
      }
      if (!there) {
        for (statement in sqlite_tables) DBI::dbExecute(connection, statement)
        DBI::dbExecute(
          connection,
          "INSERT INTO meta VALUES ('version', ?)",
          params = list(as.character(archive_form))
        )
      }
      DBI::dbExecute(connection, "COMMIT")
    },
    error = function(e) {
      DBI::dbExecute(connection, "ROLLBACK")
      stop(e)
    }
  )
}
