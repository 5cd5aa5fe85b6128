# Decompression within bounds, with a check for truncated files, which R's own
# readers accept silently.

# Whether bytes begin like a gzip file.
is_gzip <- function(bytes) {
  length(bytes) > 2 && identical(bytes[1:2], as.raw(c(0x1f, 0x8b)))
}

# Decompresses a gzip file into another file, part by part.
unpack_gzip <- function(file, into, where, most = wire_bounds$body * 40) {
  size <- copy_content(gzfile(file, "rb"), into, where, most)
  # the last four bytes state the length of the content (RFC 1952), of the last
  # member where there are several
  stated <- gzip_length(file)
  if (size %% 2^32 != stated && !gzip_is_whole(file)) {
    stop_spoilt("The gzip file is damaged or cut short.", where, "run it again")
  }
  into
}

gzip_length <- function(file) {
  connection <- file(file, "rb")
  on.exit(close(connection))
  seek(connection, file.size(file) - 4)
  sum(as.numeric(readBin(connection, "raw", 4)) * 256^(0:3))
}

# Checks a file of several members with the system's gzip.
gzip_is_whole <- function(file) {
  tool <- Sys.which("gzip")
  nzchar(tool) &&
    identical(
      suppressWarnings(
        system2(tool, "-t", stdin = file, stdout = FALSE, stderr = FALSE)
      ),
      0L
    )
}

# Decompresses an entry of a zip file into a file.
unpack_entry <- function(file, name, into, where,
                         most = wire_bounds$body * 40) {
  entries <- utils::unzip(file, list = TRUE)
  size <- copy_content(unz(file, name, "rb"), into, where, most)
  if (size != entries$Length[match(name, entries$Name)]) {
    stop_payload("The zip file is damaged.", where, "run it again")
  }
  into
}

copy_content <- function(from, into, where, most) {
  on.exit(close(from))
  to <- file(into, "wb")
  on.exit(close(to), add = TRUE)
  size <- 0
  repeat {
    part <- tryCatch(
      suppressWarnings(readBin(from, "raw", 1e6)),
      error = function(e) {
        stop_payload("The file is damaged.", where, "run it again")
      }
    )
    if (!length(part)) break
    size <- size + length(part)
    if (size > most) {
      stop_payload(
        "The file is too large when unpacked.", where, "use a shorter window"
      )
    }
    writeBin(part, to)
  }
  size
}

# A gzip body that its headers do not declare.
unpacked_body <- function(body, where) {
  if (!is_gzip(body)) {
    return(body)
  }
  files <- tempfile(c("packed", "plain"))
  on.exit(unlink(files))
  writeBin(body, files[1])
  unpack_gzip(files[1], files[2], where, wire_bounds$body)
  readBin(files[2], "raw", file.size(files[2]))
}
