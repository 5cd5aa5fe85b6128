# Structures of statistics as they came, with what the service needs to say that nothing changed.

archive_structure <- function(archive, source, address) {
  found <- archive_get(archive, "SELECT etag, modified, fetched, body FROM structures WHERE source = ? AND address = ?", list(source, address))
  if (nrow(found)) list(etag = found$etag, modified = found$modified, fetched = found$fetched, body = memDecompress(found$body[[1]], "gzip"))
}

archive_put_structure <- function(archive, source, address, etag, modified, body, now = as.numeric(Sys.time())) {
  archive_do(archive, "INSERT INTO structures (source, address, etag, modified, fetched, body) VALUES (?, ?, ?, ?, ?, ?)
    ON CONFLICT (source, address) DO UPDATE SET etag = excluded.etag, modified = excluded.modified, fetched = excluded.fetched, body = excluded.body",
    list(source, address, etag %||% NA, modified %||% NA, now, list(memCompress(body, "gzip"))))
}

archive_touch_structure <- function(archive, source, address, now = as.numeric(Sys.time())) {
  archive_do(archive, "UPDATE structures SET fetched = ? WHERE source = ? AND address = ?", list(now, source, address))
}

# When a selection was last collected whole: a refresh asks for what was updated since.
archive_refreshed <- function(archive, source, start) {
  archive_get(archive, "SELECT asked FROM refreshed WHERE source = ? AND start = ?", list(source, start))$asked
}

archive_put_refreshed <- function(archive, source, start, asked) {
  archive_do(archive, "INSERT INTO refreshed (source, start, asked) VALUES (?, ?, ?) ON CONFLICT (source, start) DO UPDATE SET asked = excluded.asked", list(source, start, asked))
}
