# What people read, without what differs between runs.

# Replaces what differs between runs.
plain_words <- function(lines) {
  lines <- gsub("127[.]0[.]0[.]1:[0-9]+", "127.0.0.1:PORT", lines)
  lines <- gsub("token=[0-9a-f]+", "token=TOKEN", lines)
  lines <- gsub(tempdir(), "TEMP", lines, fixed = TRUE)
  lines <- gsub(
    system.file(package = "vetusta"), "PACKAGE", lines, fixed = TRUE
  )
  lines <- gsub("(TEMP|/tmp)[^ ,;]*/", "FOLDER/", lines)
  lines <- gsub("file[0-9a-f]{8,}", "FILE", lines)
  # a picture's size depends on the fonts of the machine
  lines <- gsub("\\b[0-9.,]+ [kM]B\\b", "SOME kB", lines)
  lines <- gsub("\\b(and|in) [0-9.,]+ (s|seconds)\\b", "\\1 SOME \\2", lines)
  # a test may begin before midnight and end after it
  days <- format(Sys.time() - c(0, 3600), "%Y-%m-%d", tz = "UTC")
  lines <- gsub(
    sprintf("(%s)[ T][0-9:.]+Z?", paste(days, collapse = "|")), "NOW", lines
  )
  gsub("\\b2[0-9]{3}-[0-9]{2}-[0-9]{2}T[0-9:]+[.][0-9]+Z", "WHEN", lines)
}

said <- function(..., folder) {
  out <- run_vetusta(..., folder = folder, env = c(COLUMNS = "80"))
  cat(
    "$ vetusta",
    paste(
      ifelse(grepl("[ *|]", c(...)), paste0("\"", c(...), "\""), c(...)),
      collapse = " "
    ),
    "\n"
  )
  cat(out$stdout)
  cat(sub("^", "! ", strsplit(out$stderr, "\n")[[1]]), sep = "\n")
}

# An error as its class and message. Versions of testthat print conditions
# differently.
refused <- function(code) {
  error <- tryCatch(code, error = identity)
  cat(class(error)[1], conditionMessage(error), sep = "\n")
}

# Errors of a card of these lines.
card_of <- function(..., env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".yml", .local_envir = env)
  writeLines(c(...), file)
  source_card(file)
}

# An archive with three daily bars of KELD.
archive_with_days <- function(env = parent.frame()) {
  archive <- new_archive(env = env)
  put_rows(
    archive, "quay", "bars", "bars",
    data.frame(
      symbol = "KELD",
      time = as.POSIXct("2026-03-12 07:30", tz = "UTC") + 86400 * 0:2,
      close = c(61.9, 62.4, 62.1)
    ),
    "P1D"
  )
  archive
}
