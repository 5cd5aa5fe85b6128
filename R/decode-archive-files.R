# Answers that are ZIP archives with one or more files.

is_zip <- function(bytes) {
  length(bytes) > 3 && identical(bytes[1:4], as.raw(c(0x50, 0x4b, 0x03, 0x04)))
}

# The names of the files of a ZIP archive that the card wants, by its pattern.
# No name is ever used as a path; one that would leave the folder is refused
# anyway.
zip_names <- function(file, pattern, where) {
  entries <- tryCatch(utils::unzip(file, list = TRUE), error = function(e) {
    stop_spoilt(
      "The file is no zip file, or is cut short.", where,
      "run it again; if the service packs nothing, take unpack: zip out"
    )
  })
  names <- entries$Name[!grepl("/$", entries$Name)]
  wanted <- if (is.null(pattern)) {
    names
  } else {
    names[grepl(utils::glob2rx(tolower(pattern)), tolower(basename(names)))]
  }
  odd <- grepl("(^|[/\\\\])[.][.]([/\\\\]|$)|^[/\\\\]", wanted)
  if (any(odd) || (is.null(pattern) && length(wanted) != 1)) {
    stop_payload(
      if (any(odd)) {
        "The zip file has a file whose name leaves its folder."
      } else {
        paste0(
          "The zip file has ", counted(length(wanted), "file"), ", and not one."
        )
      },
      where,
      paste0(
        "name the wanted ones by files: in the card; there are: ",
        paste(utils::head(names, 10), collapse = ", ")
      )
    )
  }
  if (!length(wanted)) {
    stop_payload(
      paste0("The zip file has no file ", pattern, "."), where,
      paste0(
        "correct files: in the card; there are: ",
        paste(utils::head(names, 10), collapse = ", ")
      )
    )
  }
  sort(wanted)
}

# The rows of all wanted files of a ZIP answer, in the order of their names.
# `file` is the name of a row's file without its extension.
decode_zip <- function(dataset, body, source, known, members, where) {
  packed <- tempfile(fileext = ".zip")
  plain <- tempfile()
  on.exit(unlink(c(packed, plain)))
  writeBin(body, packed)
  names <- zip_names(packed, dataset$table$files, where)
  parts <- lapply(names, function(name) {
    unpack_entry(packed, name, plain, where, wire_bounds$body)
    known$file <- file_stem(name)
    decode_body(
      dataset, readBin(plain, "raw", file.size(plain)), source, known, members,
      paste0(where, ", file ", name)
    )
  })
  decoded_together(parts)
}

file_stem <- function(name) sub("[.][^.]*$", "", basename(name))

# Several decoded bodies as one.
decoded_together <- function(parts) {
  if (length(parts) == 1) {
    return(parts[[1]])
  }
  rows <- vapply(parts, function(part) as.numeric(part$rows), 0)
  before <- cumsum(rows) - rows
  names <- unique(unlist(lapply(parts, function(part) names(part$columns))))
  columns <- lapply(stats::setNames(nm = names), function(name) {
    do.call(c, lapply(parts, function(part) part$columns[[name]]))
  })
  rejected <- do.call(
    rbind,
    Map(
      function(part, before) {
        part$rejected$row <- part$rejected$row + as.integer(before)
        part$rejected
      },
      parts, before
    )
  )
  out <- parts[[1]]
  out$columns <- columns
  out$rejected <- rejected
  out$rows <- sum(rows)
  out$items <- sum(vapply(parts, function(part) as.numeric(part$items), 0))
  out$finer <- NULL
  out[c("at", "base")] <- list(NULL)
  out
}
