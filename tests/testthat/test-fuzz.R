# Services of random manners, stopped and disturbed at random: in the end the archive holds what the service has, once, and knows that it does.
# What a service is like: the paging, the way, the words it knows of a window, the form of its rows, and how it stumbles.
random_manner <- function(seed) {
  withr::with_seed(seed, list(
    seed = seed, paging = sample(c("cursor", "address", "page", "offset", "link", "last", "since", "until", "none"), 1), backward = sample(c(TRUE, FALSE), 1), size = sample(c(7, 20, 60), 1),
    knows = sample(list(c("from", "to"), "from", "to", character()), 1, prob = c(5, 1, 1, 1))[[1]], form = sample(c("objects", "arrays", "columns", "map"), 1),
    stumble = sample(c(0, 0.15, 0.3), 1), overlap = sample(c(0, 0, 2), 1), inclusive = sample(c(TRUE, FALSE), 1), stated = sample(c(TRUE, FALSE), 1),
    begins = sample(c(-600, -30, 40, 250), 1), ends = sample(c(270, 330, 420, 900), 1), holes = sample(c(0, 0.3), 1), at_once = sample(1:3, 1)
  ))
}
utc_text <- function(seconds) format(as.POSIXct(seconds, origin = "1970-01-01", tz = "UTC"), "%Y-%m-%dT%H:%M:%SZ")
# Minutes from the window's beginning at which the service has a bar; the window is 0 to 389.
truth_of <- function(m) withr::with_seed(m$seed + 1000, {
  at <- seq(m$begins, m$ends)
  at[stats::runif(length(at)) >= m$holes]
})
manner_server <- function(m, env = parent.frame()) {
  if (m$paging %in% c("since", "until")) m$knows <- if (m$paging == "since") "from" else "to"
  m$backward <- if (m$paging == "since") FALSE else if (m$paging == "until") TRUE else m$backward
  answer <- function(n, request) {
    set.seed(m$seed + n)
    if (stats::runif(1) < m$stumble) {
      return(switch(sample(4, 1), list(status = 503L, headers = list("Retry-After" = "0"), body = "busy"), list(status = 200L, headers = list(), body = "{\"items\": [{\"t\": 17"),
        list(status = 429L, headers = list("Retry-After" = "0"), body = "slow"), list(status = 200L, headers = list("Content-Type" = "text/html"), body = "<html>off</html>")))
    }
    bound <- function(name, word) if (name %in% m$knows) as.numeric(asked(request, word))
    rows <- truth
    from <- bound("from", "since")
    to <- bound("to", "until")
    when <- origin + 60 * rows
    if (length(from)) rows <- rows[if (m$inclusive || m$paging == "since") when >= from else when > from]
    when <- origin + 60 * rows
    if (length(to)) rows <- rows[if (m$inclusive && m$paging != "until") when <= to else when < to]
    if (m$backward) rows <- rev(rows)
    number <- as.numeric(asked(request, if (m$paging == "last") "after" else "place") %||% NA)
    done <- switch(m$paging, page = (if (is.na(number)) 0 else number - 1) * m$size, last = if (is.na(number)) 0 else match(number, origin + 60 * rows), none = 0, if (is.na(number)) 0 else number)
    # pages may begin with rows that the one before had
    first <- if (m$paging %in% c("cursor", "address", "link") && done > 0) done - m$overlap else done
    page <- rows[seq_along(rows) > first & seq_along(rows) <= (if (m$paging == "none") Inf else done + m$size)]
    ended <- done + m$size >= length(rows)
    place <- if (!ended) done + m$size
    following <- if (!ended) paste0(sub("[&?]place=.*", "", paste0(request$PATH_INFO, request$QUERY_STRING)), "&place=", place)
    times <- origin + 60 * page
    items <- switch(m$form, objects = lapply(times, function(t) list(t = t, c = t %% 997)), arrays = lapply(times, function(t) list(t, t %% 997)),
      columns = if (length(times)) list(t = as.list(times), c = as.list(times %% 997)) else list(), map = stats::setNames(lapply(times, function(t) list(c = t %% 997)), times))
    body <- list(items = items, total = length(rows), pages = ceiling(length(rows) / m$size), after = if (m$paging == "cursor") place, more = if (m$paging == "address") following)
    json_answer(Filter(Negate(is.null), body), if (m$paging == "link" && !ended) list(Link = paste0("<", following, ">; rel=\"next\"")) else list())
  }
  environment(answer) <- list2env(list(m = m, truth = truth_of(m), origin = 1773300600), parent = globalenv())
  start_scripted(answer, env = env)
}
manner_card <- function(m, address, env = parent.frame()) {
  words <- switch(m$paging, since = "since", until = "until", c(if ("from" %in% m$knows) "since", if ("to" %in% m$knows) "until"))
  pages <- switch(m$paging, cursor = "{by: cursor, at: /after, send: place}", address = "{by: address, at: /more}", link = "{by: link}",
    page = if (m$stated) "{by: page, send: place, pages: /pages}" else "{by: page, send: place}", offset = if (m$stated) "{by: offset, send: place, total: /total}" else "{by: offset, send: place}",
    last = paste0("{by: last, at: ", c(objects = "/t", arrays = "/0", columns = "/t", map = "/key")[[m$form]], ", send: after}"), since = "{by: time, send: since}", until = "{by: time, send: until}", none = "{by: none}")
  columns <- switch(m$form, objects = , columns = "{time: {at: /t, as: epoch-s}, close: /c}", arrays = "{time: {at: /0, as: epoch-s}, close: /1}", map = "{time: {of: key, as: epoch-s}, close: /c}")
  exclusive <- if (!m$inclusive && m$paging != "since") ", exclusive: true" else ""
  bars_card(address, c("zone: UTC", paste("at_once:", m$at_once), "offers:", "  minutes:", "    shape: bars", paste0("    request: /m/{symbol}{?", paste(c(words, "x"), collapse = ","), "}"), "    rows: /items",
    paste0("    form: ", m$form), if (m$paging != "none") paste0("    most: ", m$size), paste0("    next_page: ", pages),
    paste0("    parameters: {x: {value: 1}, since: {gives: from, as: epoch-s", exclusive, "}, until: {gives: to, as: epoch-s}}"), paste0("    columns: ", columns)), env = env)
}

test_that("whatever the manners of a service and whenever a collection is stopped, no row is lost and none is doubled", {
  origin <- 1773300600
  for (seed in seq_len(as.integer(Sys.getenv("VETUSTA_FUZZ", "16")))) local({
    m <- random_manner(seed)
    label <- paste(names(m), vapply(m, paste, "", collapse = "+"), collapse = ", ")
    card <- manner_card(m, manner_server(m))
    archive <- new_archive()
    want <- function() want_bars(card, c("KELD", "TAMX"), "1 minute", from = utc_text(origin), to = utc_text(origin + 60 * 390))
    stops <- withr::with_seed(seed, sample(c(1, 2, 5, Inf), 80, replace = TRUE))
    for (round in seq_along(stops)) {
      run <- tryCatch(collect_run(plan_calls(want(), archive), archive, progress = FALSE, pages = stops[round]), vetusta_error = function(e) e)
      if (inherits(run, "vetusta_run") && run$left == 0 && nrow(run$failed) == 0) break
    }
    expect_lt(round, length(stops), label = label)
    within <- truth_of(m)
    within <- within[within >= 0 & within < 390]
    for (symbol in c("KELD", "TAMX")) {
      bars <- archive_bars(archive, symbol, "1 minute")
      at <- (as.numeric(bars$time) - origin) / 60
      expect_identical(at[at >= 0 & at < 390], as.numeric(within), label = paste(symbol, label))
      expect_identical(bars$close, as.numeric(bars$time) %% 997, label = label)
      expect_identical(anyDuplicated(at), 0L, label = label)
    }
    expect_identical(nrow(plan_calls(want(), archive)$calls), 0L, label = label)
  })
})
