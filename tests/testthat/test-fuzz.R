# Services with random behaviour, killed and disturbed at random: in the end the
# archive has every row of the service once, and is complete. A service has a
# kind of paging, a direction, parameters for the window, a layout of rows, and
# faults.
random_manner <- function(seed) {
  withr::with_seed(
    seed,
    list(
      seed = seed,
      paging = sample(
        c(
          "cursor", "url", "page", "offset", "link", "last", "since", "until",
          "none"
        ),
        1
      ),
      backward = sample(c(TRUE, FALSE), 1),
      size = sample(c(7, 20, 60), 1),
      knows = sample(
        list(c("from", "to"), "from", "to", character()), 1,
        prob = c(5, 1, 1, 1)
      )[[1]],
      form = sample(c("objects", "arrays", "columns", "map"), 1),
      stumble = sample(c(0, 0.15, 0.3), 1),
      overlap = sample(c(0, 0, 2), 1),
      inclusive = sample(c(TRUE, FALSE), 1),
      stated = sample(c(TRUE, FALSE), 1),
      begins = sample(c(-600, -30, 40, 250), 1),
      ends = sample(c(270, 330, 420, 900), 1),
      holes = sample(c(0, 0.3), 1),
      at_once = sample(1:3, 1),
      # by how much the card's largest page exceeds the real one, and whether a
      # 404 follows the last page
      more = sample(c(1, 1, 3), 1),
      beyond = sample(c(TRUE, FALSE), 1)
    )
  )
}
utc_text <- function(seconds) {
  format(
    as.POSIXct(seconds, origin = "1970-01-01", tz = "UTC"), "%Y-%m-%dT%H:%M:%SZ"
  )
}
# Minutes from the window's beginning at which the service has a bar; the window
# is 0 to 389.
truth_of <- function(m) {
  withr::with_seed(m$seed + 1000, {
    at <- seq(m$begins, m$ends)
    at[stats::runif(length(at)) >= m$holes]
  })
}
manner_server <- function(m, env = parent.frame()) {
  if (m$paging %in% c("since", "until")) {
    m$knows <- if (m$paging == "since") "from" else "to"
  }
  m$backward <- if (m$paging == "since") {
    FALSE
  } else if (m$paging == "until") {
    TRUE
  } else {
    m$backward
  }
  answer <- function(n, request) {
    set.seed(m$seed + n)
    if (stats::runif(1) < m$stumble) {
      return(
        switch(sample(4, 1),
          list(
            status = 503L,
            headers = list("Retry-After" = "0"),
            body = "busy"
          ),
          list(
            status = 200L, headers = list(), body = "{\"items\": [{\"t\": 17"
          ),
          list(
            status = 429L,
            headers = list("Retry-After" = "0"),
            body = "slow"
          ),
          list(
            status = 200L,
            headers = list("Content-Type" = "text/html"),
            body = "<html>off</html>"
          )
        )
      )
    }
    bound <- function(name, word) {
      if (name %in% m$knows) as.numeric(asked(request, word))
    }
    rows <- truth
    from <- bound("from", "since")
    to <- bound("to", "until")
    when <- origin + 60 * rows
    if (length(from)) {
      rows <- rows[
        if (m$inclusive || m$paging == "since") when >= from else when > from
      ]
    }
    when <- origin + 60 * rows
    if (length(to)) {
      rows <- rows[
        if (m$inclusive && m$paging != "until") when <= to else when < to
      ]
    }
    if (m$backward) rows <- rev(rows)
    number <- as.numeric(
      asked(request, if (m$paging == "last") "after" else "place") %||% NA
    )
    done <- switch(m$paging,
      page = (if (is.na(number)) 0 else number - 1) * m$size,
      last = if (is.na(number)) 0 else match(number, origin + 60 * rows),
      none = 0,
      if (is.na(number)) 0 else number
    )
    # pages may begin with rows of the previous page
    first <- if (m$paging %in% c("cursor", "url", "link") && done > 0) {
      done - m$overlap
    } else {
      done
    }
    page <- rows[
      seq_along(rows) > first &
        seq_along(rows) <= (if (m$paging == "none") Inf else done + m$size)
    ]
    if (m$beyond &&
      m$paging %in% c("page", "offset") &&
      done > 0 &&
      !length(page)) {
      return(list(status = 404L, headers = list(), body = "no such page"))
    }
    ended <- done + m$size >= length(rows)
    place <- if (!ended) done + m$size
    following <- if (!ended) {
      paste0(
        sub(
          "[&?]place=.*", "", paste0(request$PATH_INFO, request$QUERY_STRING)
        ),
        "&place=", place
      )
    }
    times <- origin + 60 * page
    items <- switch(m$form,
      objects = lapply(times, function(t) list(t = t, c = t %% 997)),
      arrays = lapply(times, function(t) list(t, t %% 997)),
      columns = if (length(times)) {
        list(t = as.list(times), c = as.list(times %% 997))
      } else {
        list()
      },
      map = stats::setNames(
        lapply(times, function(t) list(c = t %% 997)), times
      )
    )
    body <- list(
      items = items,
      total = length(rows),
      pages = ceiling(length(rows) / m$size),
      after = if (m$paging == "cursor") place,
      more = if (m$paging == "url") following
    )
    json_answer(
      Filter(Negate(is.null), body),
      if (m$paging == "link" && !ended) {
        list(Link = paste0("<", following, ">; rel=\"next\""))
      } else {
        list()
      }
    )
  }
  environment(
    answer
  ) <- list2env(
    list(m = m, truth = truth_of(m), origin = 1773300600), parent = globalenv()
  )
  start_scripted(answer, env = env)
}
manner_card <- function(m, url, env = parent.frame()) {
  words <- switch(m$paging,
    since = "since",
    until = "until",
    c(if ("from" %in% m$knows) "since", if ("to" %in% m$knows) "until")
  )
  pages <- switch(m$paging,
    cursor = "{by: cursor, at: /after, send: place}",
    url = "{by: url, at: /more}",
    link = "{by: link}",
    page = if (m$stated) {
      "{by: page, send: place, pages: /pages}"
    } else {
      "{by: page, send: place}"
    },
    offset = if (m$stated) {
      "{by: offset, send: place, total: /total}"
    } else {
      "{by: offset, send: place}"
    },
    last = paste0(
      "{by: last, at: ",
      c(objects = "/t", arrays = "/0", columns = "/t", map = "/key")[[m$form]],
      ", send: after}"
    ),
    since = "{by: time, send: since}",
    until = "{by: time, send: until}",
    none = "{by: none}"
  )
  columns <- switch(m$form,
    objects = ,
    columns = "{time: {at: /t, as: epoch-s}, close: /c}",
    arrays = "{time: {at: /0, as: epoch-s}, close: /1}",
    map = "{time: {of: key, as: epoch-s}, close: /c}"
  )
  exclusive <- if (!m$inclusive && m$paging != "since") {
    ", exclusive: true"
  } else {
    ""
  }
  bars_card(
    url,
    c(
      "zone: UTC", paste("at_once:", m$at_once), "datasets:", "  minutes:",
      "    shape: bars",
      paste0(
        "    request: /m/{symbol}{?", paste(c(words, "x"), collapse = ","), "}"
      ),
      "    rows: /items", paste0("    form: ", m$form),
      if (m$paging != "none") paste0("    largest_page: ", m$size * m$more),
      paste0("    next_page: ", pages),
      paste0(
        "    parameters: {x: {value: 1}, since: {gives: from, as: epoch-s",
        exclusive, "}, until: {gives: to, as: epoch-s}}"
      ),
      paste0("    columns: ", columns)
    ),
    env = env
  )
}

test_that("random services and stops: no row lost or doubled", {
  origin <- 1773300600
  for (seed in seq_len(as.integer(Sys.getenv("VETUSTA_FUZZ", "16")))) {
    local({
      m <- random_manner(seed)
      label <- paste(
        names(m), vapply(m, paste, "", collapse = "+"), collapse = ", "
      )
      card <- manner_card(m, manner_server(m))
      archive <- new_archive()
      query <- function() {
        query_bars(
          card,
          c("KELD", "TAMX"),
          "1 minute",
          from = utc_text(origin),
          to = utc_text(origin + 60 * 390)
        )
      }
      stops <- withr::with_seed(
        seed, sample(c(1, 2, 5, Inf), 80, replace = TRUE)
      )
      for (round in seq_along(stops)) {
        run <- tryCatch(
          collect_run(
            plan_requests(query(), archive), archive, progress = FALSE,
            requests = stops[round]
          ),
          vetusta_error = function(e) e
        )
        if (inherits(run, "vetusta_run") &&
          run$left == 0 &&
          nrow(run$failed) == 0) {
          break
        }
      }
      expect_lt(round, length(stops), label = label)
      within <- truth_of(m)
      within <- within[within >= 0 & within < 390]
      for (symbol in c("KELD", "TAMX")) {
        bars <- archive_bars(archive, symbol, "1 minute")
        at <- (as.numeric(bars$time) - origin) / 60
        expect_identical(
          at[at >= 0 & at < 390], as.numeric(within),
          label = paste(symbol, label)
        )
        expect_identical(
          bars$close, as.numeric(bars$time) %% 997, label = label
        )
        expect_identical(anyDuplicated(at), 0L, label = label)
      }
      expect_identical(
        nrow(plan_requests(query(), archive)$requests), 0L, label = label
      )
    })
  }
})

# Bars of days and weeks of several symbols: forms of requests, of time labels,
# orders of rows, and sides.
random_days <- function(seed) {
  m <- withr::with_seed(
    seed,
    list(
      seed = seed,
      calendar = sample(c("quay", "none"), 1),
      zone = sample(c("Europe/Riga", "UTC", "America/New_York"), 1),
      told = sample(c("day", "opening", "midnight"), 1),
      ask = sample(c("day", "epoch-s", "rfc3339"), 1),
      order = sample(c("symbol", "time", "none"), 1),
      backward = sample(c(TRUE, FALSE), 1),
      size = sample(c(9, 40, 200), 1),
      per = sample(1:3, 1),
      sides = sample(c("none", "within", "rows"), 1),
      widest = sample(c("none", "P60D", "P3M"), 1),
      interval = sample(c("1 day", "1 week"), 1),
      at_once = sample(1:3, 1),
      gone = sample(c(TRUE, FALSE), 1)
    )
  )
  if (m$interval == "1 week") m$calendar <- "none"
  if (m$calendar == "quay") m$zone <- "Europe/Riga"
  m
}
truth_of_days <- function(m) {
  calendar <- if (m$calendar == "quay") {
    vetusta:::source_calendar(source_card("quay"))
  } else {
    calendar_make(list(calendar = "days", zone = m$zone))
  }
  all <- as.numeric(
    calendar_times(calendar, m$interval, "2025-01-01", "2025-12-31")
  )
  withr::with_seed(
    m$seed,
    lapply(stats::setNames(nm = c("KELD", "TAMX", "SALT")), function(symbol) {
      kept <- all[stats::runif(length(all)) > 0.1]
      kept[
        kept >= stats::quantile(all, sample(c(0, 0.3, 0.6), 1)) &
          kept <= stats::quantile(all, sample(c(0.7, 0.8, 1), 1))
      ]
    })
  )
}
days_server <- function(m, env = parent.frame()) {
  answer <- function(n, request) {
    symbols <- strsplit(asked(request, "codes"), ",")[[1]]
    if ("GONE" %in% symbols) {
      return(list(status = 404L, headers = list(), body = "no such code"))
    }
    edge <- function(name, hour) {
      text <- asked(request, name)
      switch(m$ask,
        "epoch-s" = as.numeric(text),
        rfc3339 = as.numeric(
          as.POSIXct(text, format = "%Y-%m-%dT%H:%M:%S", tz = "UTC")
        ),
        day = as.numeric(as.POSIXct(paste(text, hour), tz = m$zone))
      )
    }
    rows <- do.call(
      rbind,
      lapply(
        symbols, function(symbol) data.frame(s = symbol, t = truth[[symbol]])
      )
    )
    rows <- rows[
      rows$t >= edge("from", "00:00:00") & rows$t <= edge("to", "23:59:59"),
    ]
    if (m$sides == "rows") {
      rows <- merge(rows, data.frame(side = c("bid", "ask")))
    }
    along <- if (m$backward) -rows$t else rows$t
    rows <- rows[
      switch(m$order,
        symbol = order(rows$s, along),
        time = order(along, rows$s),
        none = order((rows$t * 7919) %% 1009, rows$t, rows$s)
      ),

    ]
    at <- as.numeric(asked(request, "place") %||% 0)
    place <- seq_len(nrow(rows))
    page <- rows[place > at & place <= at + m$size, ]
    told <- function(t) {
      day <- format(
        as.POSIXct(t, origin = "1970-01-01"), "%Y-%m-%d", tz = m$zone
      )
      switch(m$told,
        opening = t,
        day = day,
        midnight = as.numeric(as.POSIXct(day, tz = m$zone))
      )
    }
    items <- lapply(seq_len(nrow(page)), function(i) {
      value <- page$t[i] %% 997
      c(
        list(s = page$s[i], t = told(page$t[i])),
        switch(m$sides,
          none = list(c = value),
          within = list(bid = list(c = value), ask = list(c = value + 1)),
          rows = list(side = page$side[i], c = value + (page$side[i] == "ask"))
        )
      )
    })
    json_answer(
      c(
        list(items = items),
        if (at + m$size < nrow(rows)) list(after = at + m$size)
      )
    )
  }
  environment(
    answer
  ) <- list2env(list(m = m, truth = truth_of_days(m)), parent = globalenv())
  start_scripted(answer, env = env)
}

test_that("random daily and weekly bars of several symbols are complete", {
  for (seed in seq_len(as.integer(Sys.getenv("VETUSTA_FUZZ", "14")))) {
    local({
      m <- random_days(seed)
      label <- paste(names(m), unlist(m), collapse = ", ")
      card <- bars_card(
        days_server(m),
        c(
          paste("zone:", m$zone), if (m$calendar == "quay") "calendar: quay",
          paste("at_once:", m$at_once), "datasets:", "  days:",
          "    shape: bars", "    request: /d{?codes,from,to}",
          "    rows: /items", paste("    largest_page:", m$size),
          if (m$widest != "none") paste("    widest:", m$widest),
          "    next_page: {by: cursor, at: /after, send: place}",
          if (m$sides == "within") "    sides: [bid, ask]",
          sprintf(
            paste0(
              "    parameters: {codes: {gives: symbols, join: ',', ",
              "a_request: %s}, from: {as: %s}, to: {as: %s}}"
            ),
            m$per, m$ask, m$ask
          ),
          sprintf(
            "    columns: {symbol: /s, time: {at: /t, as: %s}, close: %s%s}",
            if (m$told == "day") "day" else "epoch-s",
            if (m$sides == "within") "\"/{side}/c\"" else "/c",
            if (m$sides == "rows") ", side: /side" else ""
          )
        )
      )
      archive <- new_archive()
      query <- function() {
        query_bars(
          card, c("KELD", "TAMX", "SALT", if (m$gone) "GONE"), m$interval,
          from = "2025-01-15", to = "2025-12-20"
        )
      }
      stops <- withr::with_seed(
        seed, sample(c(1, 2, 5, Inf), 100, replace = TRUE)
      )
      for (round in seq_along(stops)) {
        run <- collect_run(
          plan_requests(query(), archive), archive, progress = FALSE,
          requests = stops[round]
        )
        expect_identical(
          setdiff(run$failed$symbol, "GONE"), character(), label = label
        )
        if (run$left == 0) break
      }
      expect_lt(round, length(stops), label = label)
      window <- as.numeric(c(query()$from, query()$to))
      truth <- lapply(
        truth_of_days(m), function(t) t[t >= window[1] & t < window[2]]
      )
      for (symbol in names(truth)) {
        for (side in if (m$sides == "none") NA else c("bid", "ask")) {
          bars <- archive_bars(archive, symbol, m$interval)
          bars <- bars[
            bars$side %in% side &
              as.numeric(bars$time) >= window[1] &
              as.numeric(bars$time) < window[2],

          ]
          expect_identical(
            as.numeric(bars$time),
            truth[[symbol]],
            label = paste(symbol, side, label)
          )
          expect_identical(
            bars$close,
            truth[[symbol]] %% 997 + (side %in% "ask"),
            label = paste(symbol, side, label)
          )
        }
      }
      expect_true(
        all(unlist(plan_requests(query(), archive)$requests$symbols) == "GONE"),
        label = label
      )
    })
  }
})
