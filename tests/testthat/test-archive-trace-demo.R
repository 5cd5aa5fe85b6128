# Every number of the demo's sources that an analyst shows, as a file, a figure
# or a report has it, is found in the body that brought it. The reader here
# knows the archive's file, its journal and its kept pages, and no function of
# the product but the trace.
demo_collected <- function(env = parent.frame()) {
  services <- start_services(env = env)
  url <- function(name) sub("quay$", name, services$url)
  withr::local_envvar(
    as.list(vetusta:::standin_keys),
    .local_envir = env
  )
  path <- withr::local_tempfile(fileext = ".sqlite", .local_envir = env)
  archive <- archive_open(path)
  withr::defer(archive_close(archive), envir = env)
  collect <- function(query) {
    collect_run(
      plan_requests(query, archive), archive,
      progress = FALSE, raw = TRUE
    )
  }
  quay <- source_card("quay", url = url("quay"))
  for (interval in c("1 minute", "1 day")) {
    collect(query_bars(
      quay, c("KELD", "ASH"), interval,
      from = "2026-03-02", to = "2026-03-20"
    ))
  }
  river <- source_card("river", url = url("river"))
  collect(query_rows(
    river, "levels",
    station = c("tamm-weir", "kelder-lock"), from = "2015-01-01",
    to = "2026-03-26"
  ))
  fixing <- source_card("fixing", url = url("fixing"))
  collect(query_bars(
    fixing, "ORV-TSK", "1 day",
    from = "2026-01-02", to = "2026-03-20"
  ))
  for (day in c("2026-03-10", "2026-03-11", "2026-03-12")) {
    collect(query_rows(fixing, "rates", day = day))
  }
  register <- source_card("register", url = url("register"))
  collect(query_rows(register, "facts", symbol = "KELD"))
  # a file that is stored in parts
  hall <- source_card("hall", url = url("hall"))
  hall$datasets$history$job$piece <- 1000
  collect(query_bars(
    hall, "SALT", "1 day",
    from = "2010-01-04", to = "2025-12-30"
  ))
  # each format of the statistics
  flows <- c(csv = "FREIGHT_PRICES", xml = "LOCK_TRAFFIC", json = "HARVEST")
  for (format in names(flows)) {
    basin <- source_card("basin", url = url("basin"))
    basin$sdmx$formats <- format
    collect(query_observations(
      basin, flows[[format]],
      STATE = "ORV", from = "2019-01-01"
    ))
  }
  list(archive = archive, path = path)
}

# The member of parsed JSON at a pointer.
at_pointer <- function(content, pointer) {
  for (key in strsplit(sub("^/", "", pointer), "/", fixed = TRUE)[[1]]) {
    content <- if (is.null(names(content))) {
      content[[as.numeric(key) + 1]]
    } else {
      content[[key]]
    }
  }
  content
}

# All observations of an SDMX-JSON message, in the order of the text: each the
# array of its value and attributes.
json_observations <- function(content) {
  content <- content$data %||% content
  out <- list()
  for (set in content$dataSets) {
    for (series in set$series %||% list(set)) {
      for (cell in series$observations) out[[length(out) + 1]] <- cell
    }
  }
  out
}

# The number at a place of a body, by the format of each source.
number_at <- function(source, body, place) {
  text <- rawToChar(body)
  if (source %in% c("quay", "river", "register", "fixing")) {
    content <- jsonlite::fromJSON(text, simplifyVector = FALSE)
    part <- strsplit(place, ", member ", fixed = TRUE)[[1]]
    found <- at_pointer(content, part[1])
    if (length(part) > 1) {
      return(as.numeric(found[[as.numeric(part[2])]]))
    }
    name <- c(
      quay = "lst", river = "level", register = "amount", fixing = "lst"
    )
    return(as.numeric(found[[name[[source]]]]))
  }
  number <- as.numeric(sub(".* ", "", place))
  if (source == "hall") {
    line <- strsplit(text, "\n", fixed = TRUE)[[1]]
    names <- strsplit(line[1], ";")[[1]]
    return(as.numeric(strsplit(line[number], ";")[[1]][names == "last"]))
  }
  if (startsWith(text, "<") || startsWith(text, "\ufeff<")) {
    all <- xml2::xml_find_all(xml2::read_xml(text), "//*[local-name()='Obs']")
    value <- xml2::xml_attr(all[[number]], "OBS_VALUE")
    if (is.na(value)) {
      value <- xml2::xml_attr(xml2::xml_find_first(
        all[[number]], "./*[local-name()='ObsValue']"
      ), "value")
    }
    return(as.numeric(value))
  }
  if (startsWith(text, "{")) {
    all <- json_observations(jsonlite::fromJSON(text, simplifyVector = FALSE))
    return(as.numeric(all[[number]][[1]]))
  }
  utils::read.csv(text = text)$OBS_VALUE[number]
}

test_that("200 numbers of exports, figures and reports are in the bodies", {
  demo <- demo_collected()
  archive <- demo$archive
  file <- RSQLite::dbConnect(RSQLite::SQLite(), demo$path)
  withr::defer(RSQLite::dbDisconnect(file))
  journal <- DBI::dbGetQuery(file, "SELECT * FROM journal")
  raw <- DBI::dbGetQuery(file, "SELECT journal, body FROM raw")
  body_of <- function(trace) {
    asked <- journal$id[journal$url == trace$url & journal$run == trace$run]
    bodies <- lapply(
      raw$body[raw$journal %in% asked], memDecompress, "gzip"
    )
    if (!length(bodies)) {
      # the file of an export is not kept; the service has it still
      handle <- curl::new_handle()
      keys <- vetusta:::standin_keys
      curl::handle_setheaders(
        handle, "X-Hall-Id" = keys[["HALL_ID"]],
        "X-Hall-Secret" = keys[["HALL_SECRET"]]
      )
      bodies <- list(curl::curl_fetch_memory(trace$url, handle)$content)
    }
    hash <- vapply(bodies, function(body) {
      digest::digest(body, "xxhash64", serialize = FALSE)
    }, "")
    body <- bodies[[match(trace$hash, hash)]]
    if (grepl("[.]gz$", trace$url)) memDecompress(body, "gzip") else body
  }
  listed <- archive_series(archive)
  listed$from <- paste(listed$source, listed$dataset)
  expect_setequal(
    unique(listed$source),
    c("quay", "river", "fixing", "register", "hall", "basin")
  )
  tables <- list()
  table_of <- function(id) {
    if (is.null(tables[[id]])) {
      tables[[id]] <<- archive_read(archive, id)[[1]]
    }
    tables[[id]]
  }
  number_column <- function(x) intersect(c("close", "value"), names(x))[1]
  time_column <- function(x) {
    intersect(c("time", "period", "period_end"), names(x))[1]
  }
  csv <- withr::local_tempfile(fileext = ".csv")
  parquet <- withr::local_tempfile(fileext = ".parquet")
  # of a table as it is shown: the text of a time, and a number
  drawn <- function(times, values) {
    i <- sample(length(values), 1)
    list(at = times[i], value = values[i])
  }
  shown <- list(
    csv = function(x) {
      export_table(x, csv, instants = TRUE)
      back <- utils::read.csv(csv)
      drawn(
        back[[time_column(x)]], back[[number_column(x)]]
      )
    },
    parquet = function(x) {
      export_table(x, parquet)
      back <- nanoparquet::read_parquet(parquet)
      times <- back[[time_column(x)]]
      drawn(
        if (inherits(times, "POSIXct")) {
          format(times, "%Y-%m-%dT%H:%M:%SZ", tz = "UTC")
        } else {
          as.character(times)
        },
        back[[number_column(x)]]
      )
    },
    figure = function(x) {
      points <- figure_lines(x, columns = 1e5)$data
      times <- points$time
      drawn(
        if (time_column(x) == "time") {
          format(
            vetusta:::utc(as.numeric(times)), "%Y-%m-%dT%H:%M:%SZ",
            tz = "UTC"
          )
        } else {
          format(times, "%Y-%m-%d")
        },
        points$value
      )
    }
  )
  wrong <- character()
  traced <- character()
  check <- function(id, at, value, how) {
    trace <- archive_trace(archive, id, at)
    # of several versions the newest is shown
    trace <- trace[nrow(trace), ]
    source <- sub("/.*", "", id)
    found <- tryCatch(
      number_at(source, body_of(trace), trace$place),
      error = conditionMessage
    )
    sent <- is.na(trace$sent) == (source == "hall")
    if (!isTRUE(all.equal(found, value, tolerance = 0)) || !sent) {
      wrong <<- c(wrong, paste(how, id, at, value, trace$place, found))
    }
    traced <<- c(traced, paste(how, source))
  }
  report <- report_make(archive)$tables[["Newest values"]]
  newest <- lapply(stats::setNames(nm = listed$id), function(id) {
    x <- table_of(id)
    x <- x[which(!is.na(x[[number_column(x)]])), ]
    x <- x[which.max(as.numeric(x[[time_column(x)]])), ]
    list(at = x[[time_column(x)]], value = x[[number_column(x)]])
  })
  withr::with_seed(11, {
    for (i in 1:170) {
      from <- sample(unique(listed$from), 1)
      id <- sample(listed$id[listed$from == from], 1)
      how <- names(shown)[i %% 3 + 1]
      repeat {
        one <- shown[[how]](table_of(id))
        if (!is.na(one$value)) break
      }
      check(id, one$at, one$value, how)
    }
    for (i in sample(length(report$value), 30, replace = TRUE)) {
      of <- which(vapply(newest, function(x) {
        identical(x$value, report$value[i])
      }, TRUE))
      expect_gt(length(of), 0)
      check(names(of)[1], newest[[of[1]]]$at, report$value[i], "report")
    }
  })
  expect_identical(wrong, character())
  expect_length(traced, 200)
  # of every source in a file and in a figure
  expect_true(all(paste("figure", unique(listed$source)) %in% traced))
  expect_true(all(
    paste("csv", unique(listed$source)) %in% sub("parquet", "csv", traced)
  ))
})
