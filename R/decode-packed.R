# Decompression within bounds, with a check for truncated files, which R's own
# readers accept silently.

# Whether bytes begin like a gzip file.
is_gzip <- function(bytes) {
  length(bytes) > 2 && identical(bytes[1:2], as.raw(c(0x1f, 0x8b)))
}

# Decompresses a gzip or zip file into another file, part by part.
unpack_file <- function(file, into, how, where, most = wire_bounds$body * 40) {
  switch(how,
    gzip = unpack_gzip(file, into, where, most),
    zip = unpack_zip(file, into, where, most)
  )
  into
}

unpack_gzip <- function(file, into, where, most) {
  size <- copy_content(gzfile(file, "rb"), into, where, most)
  # the last four bytes state the length of the content (RFC 1952), of the last
  # member where there are several
  stated <- gzip_length(file)
  if (size %% 2^32 != stated && !gzip_is_whole(file)) {
    stop_spoilt("The gzip file is damaged or cut short.", where, "run it again")
  }
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

# The entry is read, and its name is never used as a path; a name that would
# leave the folder is refused anyway.
unpack_zip <- function(file, into, where, most) {
  entries <- tryCatch(utils::unzip(file, list = TRUE), error = function(e) {
    stop_spoilt(
      "The file is no zip file, or is cut short.", where,
      "correct unpack: in the card, or run it again"
    )
  })
  plain <- entries[!grepl("/$", entries$Name), ]
  if (nrow(plain) != 1 ||
    grepl("(^|[/\\\\])[.][.]([/\\\\]|$)|^[/\\\\]", plain$Name[1])) {
    stop_payload(
      "The zip file must contain a single plain file.", where,
      "look at what the service sends"
    )
  }
  size <- copy_content(unz(file, plain$Name, "rb"), into, where, most)
  if (size != plain$Length) {
    stop_payload("The zip file is damaged.", where, "run it again")
  }
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
