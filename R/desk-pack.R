# Packs of a desk: data, cards and outputs in one file, which a colleague opens
# and gets the same numbers.

#' Pack series to take along
#'
#' `desk_pack()` writes series of a desk with their history, their lists and
#' labels, the source cards, and the outputs made of them, as one zip file of
#' open formats. `pack_open()` makes a desk of it, makes every table again, and
#' says which are the same.
#'
#' @param desk A desk, see [desk_open()], or an archive.
#' @param ids Series IDs, see [archive_find()].
#' @param file The `.zip` file to write.
#' @param from,to,as_of The window, as in [archive_read()].
#' @return `desk_pack()`: the path, invisibly.
#' @details The file has `pack.json` (what is in it, with the SHA-256 of each
#'   file and the hash of each table), Parquet files with rows, lists, labels
#'   and origins, `sources/` with the cards, `desk.yml` with the outputs whose
#'   series are packed, `outputs/` with their files, and `make.R`, which reads
#'   each table again. Secrets are not in cards, and are not packed.
#' @section Errors: Those of [archive_find()]; `vetusta_error_export` for
#'   another ending or a file that cannot be written.
#' @export
#' @examples
#' \dontrun{
#' desk_pack(desk_open("my-desk"), "quay/bars/KELD@1 day", "keld.zip")
#' pack_open("keld.zip", "keld-desk")
#' }
desk_pack <- function(desk, ids, file, from = NULL, to = NULL, as_of = NULL) {
  own <- !inherits(given(desk, "desk"), "vetusta_archive")
  if (own) check_desk(desk)
  check_text(given(ids, "ids"), "ids", several = TRUE)
  check_text(given(file, "file"), "file", "export")
  if (!grepl("[.]zip$", file)) {
    vetusta_stop(
      "export", "A pack is a .zip file.",
      where = file, todo = "end its name in .zip"
    )
  }
  whole_target(file, "export")
  archive <- if (own) desk_archive(desk) else desk
  if (is.null(archive)) {
    vetusta_stop(
      "argument", "The desk has no archive yet.",
      todo = "collect something first"
    )
  }
  if (own) on.exit(archive_close(archive))
  folder <- tempfile("pack")
  dir.create(folder)
  on.exit(unlink(folder, recursive = TRUE), add = TRUE)
  made <- store_snapshot(
    archive, function() pack_write(archive, ids, from, to, as_of, folder)
  )
  cards <- pack_cards(if (own) desk, archive, made$sources, folder)
  outputs <- if (own) pack_outputs(desk, made$ids, folder) else character()
  writeLines(
    yaml::as.yaml(c(
      list(
        desk = if (own) desk$title else "A pack", archive = "archive.sqlite",
        sources = "sources"
      ),
      if (length(outputs)) {
        list(outputs = lapply(desk$outputs[names(outputs)], pack_output))
      }
    )),
    file.path(folder, "desk.yml")
  )
  writeLines(pack_script(made$tables), file.path(folder, "make.R"))
  files <- list.files(folder, recursive = TRUE)
  manifest <- list(
    pack = pack_form,
    vetusta = unname(getNamespaceVersion("vetusta")),
    ids = I(made$ids), from = format_given(from), to = format_given(to),
    as_of = format_given(as_of),
    files = lapply(stats::setNames(nm = sort(files)), function(name) {
      cli::hash_file_sha256(file.path(folder, name))
    }),
    facts = made$facts, codes = made$codes, cards = I(as.character(cards)),
    outputs = as.list(outputs),
    tables = made$tables
  )
  manifest <- manifest[!vapply(manifest, is.null, TRUE)]
  writeLines(about_json(manifest, TRUE), file.path(folder, "pack.json"))
  write_whole(file, function(path) {
    beside <- tempfile(fileext = ".zip")
    on.exit(unlink(beside))
    zip::zip(beside, sort(c(files, "pack.json")), root = folder)
    file.copy(beside, path, overwrite = TRUE)
  })
}

format_given <- function(x) if (!is.null(x)) format(x)

# The cards of the sources: of the desk, else as they were used last.
pack_cards <- function(desk, archive, sources, folder) {
  dir.create(file.path(folder, "sources"))
  unlist(lapply(sources, function(name) {
    file <- if (!is.null(desk)) file.path(desk$sources, paste0(name, ".yml"))
    lines <- if (length(file) && file.exists(file)) {
      readLines(file, warn = FALSE, encoding = "UTF-8")
    } else {
      notes <- store_notes(archive, "card", name, "")
      notes$value[which.max(notes$at)]
    }
    if (!length(lines)) {
      return(NULL)
    }
    to <- file.path(folder, "sources", paste0(name, ".yml"))
    writeLines(lines, to, useBytes = TRUE)
    beside <- if (!is.null(desk)) {
      list.files(desk$sources, "[.]calendar[.]yml$", full.names = TRUE)
    }
    file.copy(beside, file.path(folder, "sources"))
    name
  }))
}

# Outputs whose series are all packed, made into the pack: names with files.
pack_outputs <- function(desk, ids, folder) {
  archive <- desk_archive(desk)
  on.exit(archive_close(archive))
  fits <- vapply(desk$outputs, function(entry) {
    if (is.null(entry$series) || is.null(entry$file)) {
      return(FALSE)
    }
    found <- tryCatch(
      archive_find(archive, unlist(entry$series))$id,
      vetusta_error = function(e) NULL
    )
    length(found) > 0 && all(found %in% ids)
  }, TRUE)
  names <- names(desk$outputs)[fits]
  desk$outputs <- lapply(desk$outputs, pack_output)
  if (!length(names)) {
    return(character())
  }
  copy <- desk
  copy$home <- desk$folder
  copy$folder <- file.path(folder, "outputs")
  dir.create(copy$folder)
  done <- desk_write(copy, names)
  done <- done[done$outcome == "written", ]
  stats::setNames(done$file, done$output)
}

# An output whose window does not move with the day.
pack_output <- function(entry) {
  if (!is.null(entry$span)) {
    entry$from <- output_from(entry)
    entry$span <- NULL
  }
  entry
}

pack_script <- function(tables) {
  lines <- unlist(lapply(seq_along(tables), function(i) {
    script <- lineage_of_node(tables[[i]])$script
    script <- grep("^table1 <- ", script, value = TRUE)
    c(sub("table1", paste0("table", i), script, fixed = TRUE), "")
  }))
  c(
    "# Makes each table of this pack again, and its outputs.",
    "library(vetusta)", "archive <- archive_open(\"archive.sqlite\")", "",
    lines, "desk_write(desk_open(\".\"))"
  )
}

#' @rdname desk_pack
#' @param folder The folder to make, which must not exist yet.
#' @return `pack_open()`: invisibly a tibble of class `vetusta_pack`, a row per
#'   file, table and output: `what`, `name`, `same` (whether it is as packed),
#'   `why` (the reason where it is not).
#' @export
pack_open <- function(file, folder) {
  check_import_file(given(file, "file"))
  check_text(given(folder, "folder"), "folder", "import")
  if (file.exists(folder)) {
    vetusta_stop(
      "import", "The folder exists already.",
      where = folder, todo = "give the name of a new folder"
    )
  }
  if (!dir.exists(dirname(folder))) {
    vetusta_stop(
      "import", "The folder above it does not exist.",
      where = dirname(folder), todo = "make it, or give another name"
    )
  }
  beside <- tempfile(
    paste0(".", basename(folder), "-"),
    dirname(normalizePath(folder, mustWork = FALSE))
  )
  on.exit(unlink(beside, recursive = TRUE))
  manifest <- pack_unzip(file, beside)
  rows <- pack_checked(beside, manifest)
  archive <- archive_open(file.path(beside, "archive.sqlite"))
  parts <- names(manifest$files)
  tables <- tryCatch(
    {
      pack_read(
        archive, beside,
        list(files = parts, facts = manifest$facts, codes = manifest$codes),
        pack_calendars(beside, manifest)
      )
      pack_tables(archive, manifest)
    },
    vetusta_error = function(e) stop(e),
    error = function(e) stop_pack(file, "its data cannot be read"),
    finally = archive_close(archive)
  )
  outputs <- pack_made(desk_open(beside), beside, manifest)
  unlink(file.path(beside, grep("[.]parquet$", parts, value = TRUE)))
  if (!file.rename(beside, folder)) {
    stop_pack(folder, "it cannot be moved there")
  }
  rows <- rbind(rows, tables, outputs)
  invisible(structure(as_rows(as.list(rows)), class = c(
    "vetusta_pack", "tbl_df", "tbl", "data.frame"
  )))
}

stop_pack <- function(file, why) {
  vetusta_stop(
    "import", paste0("The pack cannot be opened: ", why, "."),
    where = file, todo = "ask for it again"
  )
}

# Names in a pack are plain, and the whole is bounded.
pack_unzip <- function(file, folder) {
  list <- tryCatch(zip::zip_list(file), error = function(e) {
    stop_pack(file, "it is no zip file, or damaged")
  })
  names <- list$filename
  # parts of a path begin with a letter or digit: none leads out of the folder
  part <- "[A-Za-z0-9_-][A-Za-z0-9._ -]*/"
  plain <- grepl(paste0("^(", part, ")*[A-Za-z0-9_-][^/:]*$"), names)
  files <- names[!grepl("/$", names)]
  if (!"pack.json" %in% names || !all(plain[!grepl("/$", names)])) {
    stop_pack(file, "it is not a pack of vetusta")
  }
  if (sum(list$uncompressed_size) > 2e10) stop_pack(file, "it is too large")
  tryCatch(
    zip::unzip(file, files = files, exdir = folder),
    error = function(e) stop_pack(file, "it is damaged")
  )
  manifest <- tryCatch(
    jsonlite::fromJSON(
      file.path(folder, "pack.json"),
      simplifyVector = FALSE
    ),
    error = function(e) stop_pack(file, "pack.json is damaged")
  )
  if (!identical(as.numeric(manifest$pack %||% NA), pack_form + 0)) {
    stop_pack(file, "it was made by a newer vetusta")
  }
  manifest
}

pack_row <- function(what, name, same, why = NA_character_) {
  data.frame(what = what, name = name, same = same, why = why)
}

pack_checked <- function(folder, manifest) {
  parts <- lapply(names(manifest$files), function(name) {
    path <- file.path(folder, name)
    if (!file.exists(path)) {
      return(pack_row("file", name, FALSE, "it is not in the pack"))
    }
    same <- identical(cli::hash_file_sha256(path), manifest$files[[name]])
    pack_row(
      "file", name, same,
      if (same) NA_character_ else "it was changed after it was packed"
    )
  })
  do.call(rbind, parts)
}

pack_calendars <- function(folder, manifest) {
  sources <- unlist(manifest$cards)
  calendars <- lapply(stats::setNames(nm = sources), function(name) {
    tryCatch(
      calendar_plain(source_calendar(
        source_card(file.path(folder, "sources", paste0(name, ".yml")))
      )),
      vetusta_error = function(e) NULL
    )
  })
  calendars[!vapply(calendars, is.null, TRUE)]
}

# Each table is read again, and its hash compared.
pack_tables <- function(archive, manifest) {
  read <- archive_read(
    archive, unlist(manifest$ids), manifest$from, manifest$to, manifest$as_of
  )
  parts <- lapply(seq_along(manifest$tables), function(i) {
    node <- manifest$tables[[i]]
    table <- if (i <= length(read)) read[[i]]
    name <- as.character(node$table)
    if (is.null(table)) {
      return(pack_row("table", name, FALSE, "it has no rows"))
    }
    same <- identical(table_hash(table), node$hash)
    why <- if (nrow(table) != node$rows) {
      paste0(
        counted(nrow(table), "row"), ", and ", thousands(node$rows),
        " were packed"
      )
    } else {
      "values differ"
    }
    pack_row("table", name, same, if (same) NA_character_ else why)
  })
  do.call(rbind, parts)
}

# Outputs are made again and compared byte by byte; a figure may differ where
# fonts do.
pack_made <- function(desk, folder, manifest) {
  packed <- unlist(manifest$outputs)
  if (!length(packed)) {
    return(NULL)
  }
  done <- desk_write(desk, names(packed))
  parts <- lapply(seq_len(nrow(done)), function(i) {
    file <- done$file[i]
    if (done$outcome[i] != "written") {
      return(pack_row("output", file, FALSE, done$message[i]))
    }
    same <- identical(
      unname(tools::md5sum(file.path(folder, file))),
      unname(tools::md5sum(file.path(folder, "outputs", file)))
    )
    figure <- grepl("[.](png|svg|pdf|html)$", file)
    pack_row("output", file, same, if (same) {
      NA_character_
    } else if (figure) {
      "drawn again: fonts or versions of packages differ"
    } else {
      "its bytes differ"
    })
  })
  do.call(rbind, parts)
}

#' @rdname desk_pack
#' @param x What `pack_open()` returned.
#' @param ... Unused.
#' @export
format.vetusta_pack <- function(x, ...) {
  count <- tapply(x$same, factor(x$what, unique(x$what)), sum)
  all <- tapply(x$same, factor(x$what, unique(x$what)), length)
  off <- which(!x$same)
  c(
    paste0(
      paste0(count, " of ", mapply(counted, all, names(all)), collapse = ", "),
      " as packed"
    ),
    if (length(off)) {
      paste0("  ", x$what[off], " ", x$name[off], ": ", x$why[off])
    }
  )
}

#' @rdname desk_pack
#' @export
print.vetusta_pack <- function(x, ...) {
  cat(format(x), sep = "\n")
  invisible(x)
}
