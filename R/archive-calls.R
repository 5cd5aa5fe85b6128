# The places that calls have reached, and the raw pages that are kept.

# A call whose pages are not told by a window goes on at the address that follows; one that is done is forgotten.
archive_reach <- function(archive, want, chain, following, before) {
  key <- list(want$source$source, want$offer$name, chain$start)
  if (is.null(following)) {
    archive_do(archive, "DELETE FROM reached WHERE source = ? AND offer = ? AND start = ?", key)
    return(invisible())
  }
  archive_do(archive, "INSERT INTO reached (source, offer, start, following, page, before) VALUES (?, ?, ?, ?, ?, ?)
    ON CONFLICT (source, offer, start) DO UPDATE SET following = excluded.following, page = excluded.page, before = excluded.before",
    c(key, list(following, chain$page + 1, before)))
}

archive_reached <- function(archive, want, chain) {
  found <- archive_get(archive, "SELECT following, page, before FROM reached WHERE source = ? AND offer = ? AND start = ?",
    list(want$source$source, want$offer$name, chain$start))
  if (nrow(found)) found
}

# A raw page is kept compressed with a hash of its bytes, what its call knew, and its place among the pages.
archive_put_raw <- function(archive, journal, body, chain, want) {
  known <- chain$known
  known[c("from", "to")] <- lapply(known[c("from", "to")], function(x) if (is.null(x)) NULL else as.numeric(x))
  about <- list(shape = want$shape, symbols = I(as.character(chain$symbols)), interval = want$interval$iso, session = want$session, page = chain$page, known = known[lengths(known) > 0])
  archive_do(archive, "INSERT INTO raw (journal, source, offer, hash, about, body) VALUES (?, ?, ?, ?, ?, ?)",
    list(journal, want$source$source, want$offer$name, content_hash(body), as.character(jsonlite::toJSON(about, auto_unbox = TRUE, digits = NA)), list(memCompress(body, "gzip"))))
}

content_hash <- function(body) {
  file <- tempfile()
  on.exit(unlink(file))
  writeBin(body, file)
  unname(tools::md5sum(file))
}

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
