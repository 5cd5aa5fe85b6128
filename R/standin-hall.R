# The Quay Archive Hall: a job that is asked for, looked at again, and downloaded.

hall_route <- function(path, query, request, state, settings) {
  if (!identical(request$HTTP_X_HALL_ID, standin_keys[["HALL_ID"]]) ||
    !identical(request$HTTP_X_HALL_SECRET, standin_keys[["HALL_SECRET"]])) {
    return(standin_problem(401L, "keys", "The headers X-Hall-Id and X-Hall-Secret are needed."))
  }
  contracts <- c("GRAIN", "GASOIL", "GRAVEL", "SALT")
  if (length(path) == 3 && path[2] == "exports" && request$REQUEST_METHOD == "POST" &&
    path[3] %in% contracts) {
    ticket <- paste0(tolower(path[3]), "-", length(state$tickets) + 1)
    state$tickets[[ticket]] <- list(contract = path[3], ready = as.numeric(Sys.time()) + 1.5)
    return(standin_json(202L, list(ticket = ticket)))
  }
  if (length(path) == 3 && path[2] == "exports" && !is.null(state$tickets[[path[3]]])) {
    done <- as.numeric(Sys.time()) >= state$tickets[[path[3]]]$ready
    return(standin_json(200L,
      if (done) list(state = "ready", link = paste0("/hall/files/", path[3], ".csv.gz"))
      else list(state = "working")))
  }
  if (length(path) == 3 && path[2] == "files") {
    return(hall_file(state$tickets[[sub(".csv.gz", "", path[3], fixed = TRUE)]]$contract, request))
  }
  standin_problem(404L, "path", "There is nothing at this address.")
}

hall_file <- function(contract, request) {
  if (is.null(contract)) {
    return(standin_problem(404L, "file", "There is no such file."))
  }
  days <- calendar_days(source_calendar_for_standin(), "2010-01-04", "2025-12-30")
  n <- length(days)
  close <- 100 * exp(cumsum(0.012 * seeded_normal(paste0("hall", contract), n)))
  open <- c(100, close[-n])
  reach <- 0.3 * abs(seeded_normal(paste0("hallreach", contract), n))
  lines <- sprintf("%s;%.3f;%.3f;%.3f;%.3f;%d", days, open, pmax(open, close) + reach,
    pmin(open, close) - reach, close,
    as.integer(100 + 900 * seeded_uniform(paste0("hallqty", contract), n)))
  file <- gzip_bytes(paste0(paste(c("day;first;top;low;last;lots", lines), collapse = "\n"), "\n"))
  start <- as.numeric(sub("^bytes=([0-9]+)-.*", "\\1", request$HTTP_RANGE %||% "bytes=0-"))
  if (is.na(start) || start >= length(file)) {
    return(list(status = 416L, headers = list("Content-Range" = paste0("bytes */", length(file))),
      body = ""))
  }
  part <- file[(start + 1):length(file)]
  list(status = if (start > 0) 206L
  else 200L,
    headers = list("Content-Type" = "application/gzip",
      "Content-Range" = sprintf("bytes %d-%d/%d", start,
    length(file) - 1L, length(file)))[start > 0 | c(TRUE, FALSE)], body = part)
}

gzip_bytes <- function(text) {
  file <- tempfile()
  on.exit(unlink(file))
  connection <- gzfile(file, "wb")
  writeBin(charToRaw(text), connection)
  close(connection)
  readBin(file, "raw", file.size(file))
}
