# The places that calls have reached, and the raw pages that are kept.

# A call whose pages are not told by a window goes on at the address that follows; one that is done is forgotten. `key` are the call's
# keys as text, and its window stands beside, so that a later run can ask for just that window again.
archive_reach <- function(archive, source, offer, place, following) {
  key <- list(source, offer, place$start)
  if (is.null(following)) {
    archive_do(archive, "DELETE FROM reached WHERE source = ? AND offer = ? AND start = ?", key)
    return(invisible())
  }
  archive_do(archive, "INSERT INTO reached (source, offer, start, key, from_, to_, following, page, before) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
    ON CONFLICT (source, offer, start) DO UPDATE SET following = excluded.following, page = excluded.page, before = excluded.before",
    c(key, list(place$key, place$from, place$to, following, place$page, place$before)))
}

archive_reached <- function(archive, source, offer, start) {
  found <- archive_get(archive, "SELECT following, page, before FROM reached WHERE source = ? AND offer = ? AND start = ?", list(source, offer, start))
  if (nrow(found)) found
}

# The windows in which calls stopped in the middle of their pages, by their keys.
archive_reached_windows <- function(archive, source, offer) {
  archive_get(archive, "SELECT key, from_ AS \"from\", to_ AS \"to\" FROM reached WHERE source = ? AND offer = ? AND from_ IS NOT NULL", list(source, offer))
}

# Which stretches of rows with a window are held whole, by the keys they were asked for with.
archive_cover_rows <- function(archive, source, offer, key, start, end) {
  place <- list(source, offer, key, end, start)
  touching <- archive_get(archive, "SELECT rowid AS row, start, end FROM row_coverage WHERE source = ? AND offer = ? AND key = ? AND start <= ? AND end >= ?", place)
  whole <- list(min(start, touching$start), max(end, touching$end))
  for (row in touching$row) archive_do(archive, "DELETE FROM row_coverage WHERE rowid = ?", list(row))
  archive_do(archive, "INSERT INTO row_coverage VALUES (?, ?, ?, ?, ?)", c(list(source, offer, key), whole))
}

archive_covered_rows <- function(archive, source, offer, key = NULL) {
  archive_get(archive, paste("SELECT key, start, end FROM row_coverage WHERE source = ? AND offer = ?", if (!is.null(key)) "AND key = ?", "ORDER BY key, start"), c(list(source, offer), key))
}

# A round of calls without a window goes on until each was made once: which were made since it began. A want that was asked for whole begins a new round.
archive_round <- function(archive, source, offer, want) {
  archive_get(archive, "SELECT began FROM rounds WHERE source = ? AND offer = ? AND want = ?", list(source, offer, want))$began
}

archive_round_begin <- function(archive, source, offer, want, now = as.numeric(Sys.time())) {
  archive_do(archive, "INSERT OR IGNORE INTO rounds VALUES (?, ?, ?, ?)", list(source, offer, want, now))
}

archive_round_end <- function(archive, source, offer, want) archive_do(archive, "DELETE FROM rounds WHERE source = ? AND offer = ? AND want = ?", list(source, offer, want))

archive_asked <- function(archive, source, offer, since) {
  archive_get(archive, "SELECT start FROM asked WHERE source = ? AND offer = ? AND at >= ?", list(source, offer, since))$start
}

archive_asked_note <- function(archive, source, offer, start, now = as.numeric(Sys.time())) {
  archive_do(archive, "INSERT INTO asked VALUES (?, ?, ?, ?) ON CONFLICT (source, offer, start) DO UPDATE SET at = excluded.at", list(source, offer, start, now))
}

# A raw page is kept compressed with a hash of its bytes, what its call knew, and its place among the pages.
archive_put_raw <- function(archive, journal, body, chain, want) {
  known <- chain$known
  known[c("from", "to")] <- lapply(known[c("from", "to")], function(x) if (is.null(x)) NULL else as.numeric(x))
  about <- list(shape = want$shape, symbols = I(as.character(chain$symbols)), interval = want$interval$iso, session = want$session, page = chain$page, known = known[lengths(known) > 0])
  archive_do(archive, "INSERT INTO raw (journal, source, offer, hash, about, body) VALUES (?, ?, ?, ?, ?, ?)",
    list(journal, want$source$source, want$offer$name, content_hash(body), as.character(jsonlite::toJSON(about, auto_unbox = TRUE, digits = NA)), list(memCompress(body, "gzip"))))
}

content_hash <- function(body) cli::hash_raw_md5(body)

# What is known of a job: where to look for it, and its link once it is ready.
archive_job_note <- function(archive, want, chain, look, link) {
  archive_do(archive, "INSERT INTO jobs (source, offer, start, look, link) VALUES (?, ?, ?, ?, ?)
    ON CONFLICT (source, offer, start) DO UPDATE SET look = excluded.look, link = excluded.link", list(want$source$source, want$offer$name, chain$start, look, link))
}

archive_job <- function(archive, want, chain) {
  found <- archive_get(archive, "SELECT look, link FROM jobs WHERE source = ? AND offer = ? AND start = ?", list(want$source$source, want$offer$name, chain$start))
  if (nrow(found)) as.list(found)
}

archive_job_forget <- function(archive, want, chain) {
  archive_do(archive, "DELETE FROM jobs WHERE source = ? AND offer = ? AND start = ?", list(want$source$source, want$offer$name, chain$start))
}
