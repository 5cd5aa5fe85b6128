# Every card of the cookbook collects from a service of its manner.
cookbook_days <- c("2026-03-10", "2026-03-11", "2026-03-12", "2026-03-13")
cookbook_last <- c(41, 42, 43, 44)
cookbook_rows <- function(which = 1:4) {
  lapply(which, function(i) {
    list(day = cookbook_days[i], last = cookbook_last[i], id = i)
  })
}
cookbook_csv <- function() {
  paste(c("day,last", paste(cookbook_days, cookbook_last, sep = ",")),
    collapse = "\n"
  )
}

# What a service of each manner answers; a list is JSON.
cookbook_services <- list(
  "access-query-key" = function(request) {
    if (asked(request, "key") == "k1") cookbook_items()
  },
  "access-header" = function(request) {
    if (request$HTTP_X_MILL == "Key k1") cookbook_items()
  },
  "access-bearer" = function(request) {
    if (request$HTTP_AUTHORIZATION == "Bearer k1") cookbook_items()
  },
  "access-basic" = function(request) {
    if (request$HTTP_AUTHORIZATION == "Basic azE6azE=") cookbook_items()
  },
  "access-token" = function(request) {
    if (request$PATH_INFO == "/token") {
      return(list(access_token = "t1", expires_in = 600))
    }
    if (request$HTTP_AUTHORIZATION == "Bearer t1") cookbook_items()
  },
  "access-login" = function(request) {
    if (request$PATH_INFO == "/session") {
      return(list(session = list(key = "s1", seconds = 600)))
    }
    if (request$HTTP_X_MILL_SESSION == "s1") cookbook_items()
  },
  "access-signature" = function(request) {
    text <- paste0("GET", request$PATH_INFO, request$HTTP_X_TIME)
    good <- digest::hmac("k1", text, "sha256")
    if (request$HTTP_X_SIGN == good && request$HTTP_X_ID == "k1") {
      cookbook_items()
    }
  },
  "access-path" = function(request) {
    if (startsWith(request$PATH_INFO, "/k1/days")) cookbook_items()
  },
  "access-form-login" = function(request) {
    if (request$PATH_INFO == "/login") {
      return(structure(list(), headers = list("Set-Cookie" = "sid=s1; Path=/")))
    }
    if (request$HTTP_COOKIE == "sid=s1") cookbook_items()
  },
  "access-consent-page" = function(request) {
    if (request$PATH_INFO == "/token") {
      return(list(access_token = "t1", refresh_token = "r1", expires_in = 600))
    }
    if (request$HTTP_AUTHORIZATION == "Bearer t1") cookbook_items()
  },
  "limits-several" = function(request) cookbook_items(),
  "limits-weight" = function(request) cookbook_items(),
  "pages-next-url" = function(request) {
    if (identical(asked(request, "p"), "2")) {
      list(items = cookbook_rows(3:4))
    } else {
      list(items = cookbook_rows(1:2), more = "/days/KELD?p=2")
    }
  },
  "pages-link-header" = function(request) {
    if (identical(asked(request, "p"), "2")) {
      cookbook_rows(3:4)
    } else {
      structure(
        cookbook_rows(1:2),
        headers = list(Link = "</days/KELD?p=2>; rel=\"next\"")
      )
    }
  },
  "pages-cursor" = function(request) {
    after <- asked(request, "after")
    if (identical(after, "c2")) {
      list(items = cookbook_rows(3:4), after = "c2", has_more = FALSE)
    } else {
      list(items = cookbook_rows(1:2), after = "c2", has_more = TRUE)
    }
  },
  "pages-last-id" = function(request) {
    after <- as.numeric(asked(request, "after") %||% 0)
    rest <- setdiff(1:4, seq_len(after))
    list(items = cookbook_rows(utils::head(rest, 2)))
  },
  "pages-number" = function(request) {
    page <- as.numeric(asked(request, "page") %||% 1)
    list(items = cookbook_rows(page * 2 - 1:0), pages = 2)
  },
  "pages-offset" = function(request) {
    skip <- as.numeric(asked(request, "skip") %||% 0)
    rest <- setdiff(1:4, seq_len(skip))
    list(items = cookbook_rows(utils::head(rest, 2)), total = 4)
  },
  "pages-by-time" = function(request) {
    from <- asked(request, "from")
    rest <- which(cookbook_days >= from)
    list(items = cookbook_rows(utils::head(rest, 2)))
  },
  "pages-range-header" = function(request) {
    from <- as.numeric(sub("items=([0-9]+)-.*", "\\1", request$HTTP_RANGE))
    if (from > 3) {
      return(structure(list(), status = 416L))
    }
    structure(
      list(items = cookbook_rows(from + 1:2)),
      status = 206L,
      headers = list(
        "Content-Range" = paste0("items ", from, "-", from + 1, "/4")
      )
    )
  },
  "form-matrix" = function(request) {
    list(
      days = cookbook_days[1:2], names = c("a", "b"),
      cells = list(list(1, 2), list(3, 4))
    )
  },
  "form-series-labels" = function(request) {
    list(
      quarters = c("2025-Q1", "2025-Q2"),
      series = list(
        list(code = "a", values = list(1, 2)),
        list(code = "b", values = list(3, 4))
      )
    )
  },
  "form-tree" = function(request) {
    level <- list("2026-01" = 1, "2026-02" = 2)
    list(data = list(KELDER = list(level = level), TAMM = list(level = level)))
  },
  "form-names-elsewhere" = function(request) {
    list(
      fields = list(list(name = "day"), list(name = "last")),
      data = Map(list, cookbook_days, cookbook_last, USE.NAMES = FALSE)
    )
  },
  "answers-xml" = function(request) {
    paste0(
      "<list>",
      paste0(
        "<day date=\"", cookbook_days, "\"><quote><last>", cookbook_last,
        "</last></quote></day>",
        collapse = ""
      ),
      "</list>"
    )
  },
  "answers-workbook" = function(request) {
    file <- tempfile(fileext = ".xlsx")
    book <- openxlsx2::wb_workbook()
    book$add_worksheet("Days")
    book$add_data("Days", "The mill", col_names = FALSE)
    book$add_data(
      "Days", data.frame(Day = as.Date(cookbook_days), Last = cookbook_last),
      start_row = 2
    )
    book$save(file)
    readBin(file, "raw", 1e6)
  },
  "answers-zip" = function(request) {
    folder <- tempfile()
    dir.create(folder)
    setwd(folder)
    writeLines(cookbook_csv(), "KELD.csv")
    writeLines("read me", "readme.txt")
    utils::zip("all.zip", c("KELD.csv", "readme.txt"), flags = "-q")
    readBin("all.zip", "raw", 1e6)
  },
  "times-month-names" = function(request) {
    list(
      items = Map(
        function(month, value) {
          list(
            month = paste(month, "2026"), value = value
          )
        },
        c("janv.", "f\u00e9v.", "mars", "AVRIL"), 1:4,
        USE.NAMES = FALSE
      )
    )
  },
  "times-day-numbers" = function(request) {
    list(
      items = lapply(1:4, function(i) {
        list(serial = 46090 + i, last = cookbook_last[i])
      })
    )
  },
  "numbers-from-answer" = function(request) {
    list(
      meta = list(zone = "Europe/Riga", decimals = 2),
      items = lapply(1:4, function(i) {
        list(at = paste(cookbook_days[i], "00:00"), last = 100 * i)
      })
    )
  },
  "request-list-of-ids" = function(request) {
    sent <- jsonlite::fromJSON(rawToChar(request$rook.input$read()))
    rows <- lapply(sent$codes, function(code) list(code = code, last = 1))
    if (is.null(sent$after)) {
      list(items = rows[1:2], after = "c2")
    } else {
      list(items = rows[3:4])
    }
  },
  "form-arrays" = function(request) {
    Map(list, cookbook_days, cookbook_last, USE.NAMES = FALSE)
  },
  "form-columns" = function(request) {
    list(
      answer = list(
        list(
          code = "KELD",
          when = as.numeric(as.POSIXct(cookbook_days, tz = "UTC")),
          data = list(price = list(list(last = cookbook_last)))
        )
      )
    )
  },
  "form-map-by-time" = function(request) {
    list(
      days = stats::setNames(
        lapply(cookbook_last, function(x) list(last = x)), cookbook_days
      )
    )
  },
  "form-map-by-symbol" = function(request) {
    list(KELD = Map(list, cookbook_days, cookbook_last, USE.NAMES = FALSE))
  },
  "form-rows-within-rows" = function(request) {
    list(result = list(list(code = "KELD", bars = cookbook_rows())))
  },
  "form-sides" = function(request) {
    list(
      candles = lapply(1:2, function(i) {
        list(
          day = cookbook_days[i], bid = list(last = 40 + i),
          ask = list(last = 50 + i)
        )
      })
    )
  },
  "form-wrapped" = function(request) {
    paste0(
      "took(", jsonlite::toJSON(cookbook_items(), auto_unbox = TRUE), ");"
    )
  },
  "form-json-lines" = function(request) {
    paste(
      vapply(
        cookbook_rows(),
        function(row) as.character(jsonlite::toJSON(row, auto_unbox = TRUE)), ""
      ),
      collapse = "\n"
    )
  },
  "form-single-object" = function(request) {
    list(
      quote = list(code = "KELD", last = 41, when = "2026-03-12T07:30:00Z")
    )
  },
  "form-rows-of-one-kind" = function(request) {
    list(
      events = c(
        lapply(cookbook_rows(), function(row) {
          c(row, list(kind = "trade", share = 7))
        }),
        list(list(kind = "note", text = "half day"))
      ),
      shares = list(list(id = 7, name = "Kelder Lines"))
    )
  },
  "table-csv" = function(request) {
    paste(
      c(
        "The mill", "Day;Last", "# provisional",
        paste(
          format(as.Date(cookbook_days), "%d.%m.%Y"),
          sub(".", ",", format(cookbook_last, nsmall = 1), fixed = TRUE),
          sep = ";"
        )
      ),
      collapse = "\n"
    )
  },
  "table-column-per-series" = function(request) {
    paste(
      c(
        "Day,KELD,TAMX",
        paste(cookbook_days, cookbook_last, cookbook_last - 30, sep = ",")
      ),
      collapse = "\n"
    )
  },
  "table-packed-keys" = function(request) {
    "FREQ|STATE\\TIME\t2024\t2025\nA|ORV\t12.5\t[r]13.1\nA|TSK\t9.8\t9.9"
  },
  "times-two-members" = function(request) {
    list(
      items = lapply(1:4, function(i) {
        list(date = 20260312, clock = 928 + i, last = cookbook_last[i])
      })
    )
  },
  "times-quarters" = function(request) {
    list(
      items = lapply(1:4, function(i) {
        list(code = "A", year = 2025, quarter = paste0("Q", i), value = i)
      })
    )
  },
  "times-bar-end" = function(request) {
    list(
      items = lapply(1:4, function(i) {
        list(at = (1773300600 + 60 * i) * 1000, last = cookbook_last[i])
      })
    )
  },
  "times-file-per-month" = function(request) {
    if (request$PATH_INFO == "/2026/03/KELD.csv") cookbook_csv()
  },
  "answers-nothing" = function(request) {
    if (grepl("KELD", request$PATH_INFO)) cookbook_items()
  },
  "answers-error-200" = function(request) {
    c(list(state = "ok"), cookbook_items())
  },
  "request-body" = function(request) {
    body <- jsonlite::fromJSON(rawToChar(request$rook.input$read()))
    if (identical(body$after, "c2")) {
      list(hits = cookbook_rows(3:4))
    } else {
      list(hits = cookbook_rows(1:2), after = "c2")
    }
  },
  "job-ticket" = function(request) {
    if (request$REQUEST_METHOD == "POST") {
      list(ticket = "7")
    } else if (request$PATH_INFO == "/exports/7") {
      list(state = "ready", link = "/file.csv")
    } else {
      cookbook_csv()
    }
  },
  "job-location" = function(request) {
    if (request$REQUEST_METHOD == "POST") {
      structure(
        list(),
        status = 202L, headers = list(Location = "/ready/7.csv")
      )
    } else {
      cookbook_csv()
    }
  },
  "statistics-json-stat" = function(request) {
    list(
      version = "2.0", class = "dataset", id = list("STATE", "UNIT", "TIME"),
      size = list(1, 1, 2),
      dimension = list(
        STATE = list(category = list(index = list("ORV"))),
        UNIT = list(category = list(index = list("T"))),
        TIME = list(category = list(index = list("2024", "2025")))
      ),
      value = list(1, 2)
    )
  }
)

cookbook_items <- function() list(items = cookbook_rows())

# A service that answers with the function of this name.
cookbook_service <- function(name, env) {
  answer <- function(n, request) {
    given <- service(request)
    if (is.null(given)) {
      return(
        list(
          status = 404L, headers = list("Content-Type" = "text/plain"),
          body = "none"
        )
      )
    }
    headers <- attr(given, "headers")
    if (is.raw(given)) {
      return(
        list(
          status = 200L,
          headers = list("Content-Type" = "application/octet-stream"),
          body = given
        )
      )
    }
    if (is.character(given)) {
      return(
        list(
          status = 200L, headers = list("Content-Type" = "text/plain"),
          body = given
        )
      )
    }
    status <- attr(given, "status")
    attributes(given) <- attributes(given)["names"]
    json_answer(
      given, if (is.null(headers)) list() else headers,
      status = if (is.null(status)) 200L else status
    )
  }
  environment(answer) <- list2env(
    list(
      service = cookbook_services[[name]], cookbook_rows = cookbook_rows,
      cookbook_items = cookbook_items, cookbook_csv = cookbook_csv,
      cookbook_days = cookbook_days, cookbook_last = cookbook_last
    ),
    parent = globalenv()
  )
  for (made in c("cookbook_rows", "cookbook_items", "cookbook_csv")) {
    f <- get(made)
    environment(f) <- environment(answer)
    assign(made, f, environment(answer))
  }
  service <- cookbook_services[[name]]
  environment(service) <- environment(answer)
  assign("service", service, environment(answer))
  start_scripted(answer, env = env)
}

test_that("every card of the cookbook collects in its manner", {
  withr::local_envvar(
    MILL_KEY = "k1", MILL_TOKEN = "k1", MILL_USER = "k1", MILL_PASSWORD = "k1",
    MILL_CLIENT = "k1", MILL_SECRET = "k1", MILL_ID = "k1"
  )
  cards <- source_cookbook()
  expect_gte(nrow(cards), 30)
  expect_setequal(cards$name, names(cookbook_services))
  for (i in seq_len(nrow(cards))) {
    name <- cards$name[i]
    lines <- strsplit(cards$card[i], "\n")[[1]]
    expect_lt(length(lines), 26)
    expect_identical(sum(startsWith(lines, "#")), 2L, label = name)
    local({
      url <- cookbook_service(name, environment())
      # kept tokens go into the folder above the card's
      file <- file.path(withr::local_tempdir(), "sources", "card.yml")
      dir.create(dirname(file))
      writeLines(
        sub("^url: .*", paste("url:", url), lines), file
      )
      card <- source_card(file)
      dataset <- card$datasets[[1]]
      archive <- new_archive()
      query <- if (inherits(dataset, "vetusta_dataset_bars")) {
        minutes <- grepl("minutes", dataset$request)
        query_bars(
          card, "KELD", if (minutes) "1 minute" else "1 day",
          from = "2026-03-10", to = "2026-03-13"
        )
      } else if (grepl("codes", dataset$body %||% "")) {
        query_rows(card, names(card$datasets), codes = c("A", "B", "C", "D"))
      } else if (grepl("symbol", paste(dataset$request, dataset$body))) {
        query_rows(card, names(card$datasets), symbol = "KELD")
      } else {
        query_rows(card, names(card$datasets))
      }
      if (name == "access-consent-page") {
        source_login(card, typed = function(url) "code-1")
      }
      run <- collect_run(
        plan_requests(query, archive), archive,
        progress = FALSE
      )
      expect_identical(
        nrow(run$failed), 0L,
        label = paste(name, run$failed$what)
      )
      expect_identical(run$rejected, 0, label = name)
      few <- c("form-single-object" = 1, "statistics-json-stat" = 2)
      expect_gte(run$new, if (name %in% names(few)) few[[name]] else 4,
        label = name
      )
    })
  }
})

test_that("the cookbook is searched and shown", {
  said <- function(...) run_vetusta("sources", "cookbook", ...)
  expect_match(said()$stdout, "pages-cursor +A cursor")
  one <- said("pages-cursor")
  expect_identical(one$stdout, source_cookbook("pages-cursor")$card)
  expect_match(said("cursor")$stdout, "request-body")
  wrong <- said("pages-curser")
  expect_identical(wrong$status, 2L)
  expect_match(wrong$stderr, "did you mean \"pages-cursor\"")
  expect_length(jsonlite::fromJSON(said("job", "--json")$stdout)$name, 2)
})
