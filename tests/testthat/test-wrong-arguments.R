# Every exported function with each argument invalid in every simple way: the
# outcome is a result or an error of the package with advice, never an error of
# R.
spoilt_values <- list(
  nothing = NULL,
  absent = NA,
  word = "nonsense",
  words = c("a", "b"),
  blank = "",
  number = 7,
  negative = -1,
  endless = Inf,
  none = character(),
  truth = TRUE,
  list = list(),
  named = list(a = 1),
  table = data.frame(),
  odd_table = data.frame(a = 1:3),
  work = function(x) x,
  day = as.Date("2026-03-12"),
  instant = as.POSIXct("2026-03-12", tz = "UTC")
)

calls_for_spoiling <- function(archive, folder) {
  quay <- source_card("quay")
  calendar <- source_calendar("quay")
  bars <- minute_bars()
  points <- data.frame(
    series = "mill",
    time = as.POSIXct("2026-03-01", tz = "UTC") + 86400 * 0:9,
    value = c(1, 2, NA, 4, 5, 6, 7, NA, 9, 10)
  )
  figures <- data.frame(
    series = "mill",
    period = as.Date("2026-01-01") + 0:89,
    value = as.double(1:90)
  )
  noisy <- figures
  noisy$value <- withr::with_seed(1, stats::rnorm(90))
  noise <- model_noise(noisy, c(1, 0))
  index <- index_sum(noisy, below = 0, season = c("02-01", "02-20"))
  csv <- file.path(folder, "rows.csv")
  writeLines(c("time,open,high,low,close,volume", "2026-03-12,1,2,1,2,5"), csv)
  sample <- file.path(folder, "sample.json")
  writeLines(
    '{"items":[{"t":1773300600,"c":41.2},{"t":1773300660,"c":41.3}]}', sample
  )
  query <- query_bars(
    quay, "KELD", "1 minute", from = "2026-03-12", to = "2026-03-12"
  )
  desk <- desk_make(file.path(folder, "kept"))
  writeLines(c("item,2025", "revenue,"), file.path(folder, "model.csv"))
  list(
    archive_bars = list(
      archive = archive, symbols = "KELD", interval = "1 day",
      from = "2026-03-01", to = "2026-03-20", source = "files",
      session = "regular", zone = "UTC"
    ),
    archive_rows = list(archive = archive, source = "files", dataset = "rows"),
    archive_series = list(archive = archive),
    archive_journal = list(archive = archive),
    archive_schema = list(
      archive = archive, source = "files", dataset = "rows"
    ),
    archive_rejected = list(archive = archive),
    archive_findings = list(archive = archive),
    archive_accept = list(
      archive = archive, id = "3fa2c1", reason = "known", until = "2026-03-01"
    ),
    desk_check = list(desk = desk, ids = "KELD@1 day", since = "2026-03-01"),
    series_watch = list(
      x = figures, calendar = calendar, rules = list(jump = list(spread = 9)),
      since = "2026-02-01", zone = "UTC"
    ),
    series_newest = list(
      x = figures, over = "1 month", or_before = "3 days", value = "value",
      zone = "UTC"
    ),
    figure_newest = list(
      x = figures, places = NULL, over = "1 month", most = 5, names = NULL,
      heading = "Level", title = "T", subtitle = "S", caption = "C",
      zone = "UTC", dark = FALSE
    ),
    figure_interactive = list(
      figure = figure_lines(figures), height = 400, wheel = FALSE
    ),
    figure_backtest = list(
      x = model_backtest(
        noisy,
        origins = "2026-02-20", horizon = "10 days", n = 20,
        season = list(periods = numeric()), noise = list(order = c(1, 0))
      ),
      title = "T", subtitle = "S", caption = "C", dark = FALSE
    ),
    archive_datasets = list(archive = archive),
    archive_observations = list(
      archive = archive, source = "basin", dataset = "LOCK_TRAFFIC",
      as_of = "2026-01-01", from = "2020", to = "2021", labels = "codes",
      language = "en", columns = TRUE, multiplier = "keep"
    ),
    archive_revisions = list(
      archive = archive, ids = "KELD", all = FALSE, value = NULL
    ),
    archive_find = list(archive = archive, ids = "KELD"),
    archive_codes = list(
      archive = archive, source = "basin", dataset = "LOCK_TRAFFIC",
      as_of = NULL
    ),
    archive_members = list(
      archive = archive, list = "quay/directory", on = NULL
    ),
    series_members = list(
      x = bars, members = data.frame(symbol = "KELD"), zone = NULL
    ),
    series_lineage = list(x = bars),
    export_about = list(file = "x.csv"),
    desk_pack = list(
      desk = desk, ids = "KELD", file = "x.zip", from = NULL, to = NULL,
      as_of = NULL
    ),
    pack_open = list(file = "x.zip", folder = "x"),
    archive_trace = list(
      archive = archive, id = "KELD", at = "2026-03-12"
    ),
    archive_read = list(
      archive = archive, ids = "KELD", from = NULL, to = NULL, as_of = NULL,
      zone = "UTC"
    ),
    archive_import = list(
      archive = archive, file = csv, symbol = "KELD", interval = "1 day",
      source = "files", columns = c(time = "time"), time_as = "rfc3339",
      zone = "UTC", calendar = calendar
    ),
    bars_frame = list(rows = as.data.frame(bars)),
    bars_check = list(bars = bars),
    bars_resample = list(
      bars = bars, interval = "1 hour", calendar = calendar,
      session = "regular", base = "1 minute", zone = "UTC", anchor = "opening",
      day_start = NULL, week_start = "monday", stamp = "start", need = 1
    ),
    calendar_make = list(definition = list(calendar = "mill", zone = "UTC")),
    calendar_sessions = list(
      calendar = calendar, from = "2026-03-12", to = "2026-03-13",
      session = "regular"
    ),
    calendar_times = list(
      calendar = calendar, interval = "1 hour", from = "2026-03-12",
      to = "2026-03-13", session = "regular"
    ),
    plan_requests = list(query = query, archive = archive),
    query_bars = list(
      source = quay, symbols = "KELD", interval = "1 minute", span = NULL,
      from = "2026-03-12", to = "2026-03-13", session = "regular",
      dataset = "bars"
    ),
    query_rows = list(source = quay, dataset = "directory", sector = "barges"),
    source_card = list(
      file = "quay", url = "http://127.0.0.1:9", secrets = "none.env",
      account = NULL
    ),
    archive_documents = list(
      archive = archive, source = "files", dataset = "rows", folder = folder
    ),
    collect_documents = list(
      source = quay,
      rows = data.frame(link = character()),
      folder = file.path(folder, "papers"),
      archive = archive,
      dataset = "rows",
      progress = FALSE,
      wait = 1
    ),
    export_links = list(
      rows = data.frame(link = "https://data.example.org/a"),
      file = file.path(folder, "links.html"),
      title = "Links"
    ),
    collect_draft = list(
      url = "http://127.0.0.1:9/a", headers = c(A = "b"), name = "new",
      folder = "."
    ),
    source_calendar = list("quay"),
    source_draft = list(files = sample, name = "new"),
    series_frame = list(points),
    series_align = list(
      points, grid = "union", rule = "last", point_in_time = TRUE,
      lag = "1 day", max_age = "9 days", ages = FALSE, form = "wide",
      interval = "1 day", zone = "UTC"
    ),
    series_change = list(
      x = points, change = "mean", over = NULL, window = "3 days",
      minimum_count = 1, base = NULL, value = NULL, interval = "1 day",
      zone = "UTC"
    ),
    series_aggregate = list(x = figures, to = "M", rule = "mean", need = 0),
    series_disaggregate = list(
      x = figures, to = "D", rule = "last", known = "start", indicator = NULL
    ),
    series_about = list(
      x = points, interval = "1 day", zone = "UTC", calendar = NULL,
      delay = "1 hour", unit = "m", title = "Level", source = "river"
    ),
    series_convert = list(
      x = points, rates = points, value = NULL, interval = "1 day", lag = NULL,
      max_age = NULL, zone = "UTC"
    ),
    series_correlation = list(
      points, transform(points, series = "other"), change = "difference",
      interval = "1 day", zone = "UTC"
    ),
    series_check = list(
      x = points, value = NULL, jump = 8, stale = 20, negative = NULL
    ),
    series_fill = list(
      x = points, calendar = NULL, rule = "linear", at_most = 3, across = NULL,
      ends = FALSE, neighbour = NULL, constant = NULL, interval = "1 day",
      from = NULL, to = NULL, session = "regular"
    ),
    series_unfill = list(points),
    series_gaps = list(
      x = points, calendar = NULL, interval = "1 day", from = NULL, to = NULL,
      session = "regular", outage = 1, listed = NULL, delayed_from = NULL,
      published = NULL, now = NULL
    ),
    time_instant = list(x = "2026-03-12", zone = "UTC", end = FALSE),
    time_interval = list(x = "1 day"),
    time_local = list(
      day = as.Date("2026-03-12"), seconds = 0, zone = "UTC",
      skipped = "shift", twice = "first"
    ),
    time_periods = list("2026-Q1"),
    time_spelling = list(
      first = as.Date("2026-01-01"), frequency = "Q", form = "sdmx"
    ),
    figure_candles = list(
      bars = bars, title = "t", subtitle = "s", caption = "c", zone = "UTC",
      calendar = calendar, names = NULL, dark = FALSE, most = 100
    ),
    figure_lines = list(
      x = bars, value = "close", panels = "none", index = NULL,
      log_scale = FALSE, names = NULL, title = "t", subtitle = "s",
      zone = "UTC", bridge = 30, dark = FALSE, columns = 500
    ),
    figure_gaps = list(
      x = points, calendar = calendar, zone = "UTC", dark = FALSE
    ),
    figure_filled = list(x = points),
    figure_season = list(x = figures, by = "year", zone = "UTC"),
    figure_spread = list(
      x = figures, change = "difference", zone = "UTC", dark = FALSE
    ),
    figure_coverage = list(
      series = archive_series(archive),
      zone = "UTC",
      dark = FALSE
    ),
    figure_movers = list(
      moves = data.frame(symbol = "A", percent = 1),
      dark = FALSE
    ),
    figure_statement = list(
      statement = data.frame(
        item = "x", value = 1, period_end = as.Date("2025-12-31")
      ),
      dark = FALSE
    ),
    figure_correlation = list(
      correlations = data.frame(a = "x", b = "y", correlation = 0.5),
      dark = FALSE
    ),
    figure_revisions = list(
      releases = data.frame(
        series = "x", period = as.Date("2026-01-01"), first = 1, latest = 2
      ),
      zone = "UTC",
      dark = FALSE
    ),
    report_make = list(
      archive = archive, ids = "KELD", title = "t", from = NULL, to = NULL,
      zone = "UTC", calendars = list(), sources = NULL, status = NULL,
      names = NULL
    ),
    desk_report = list(
      desk = desk, ids = NULL, from = NULL, to = NULL, title = "t"
    ),
    series_thin = list(time = 1:10, value = 1:10, columns = 10),
    theme_vetusta = list(dark = FALSE, size = 12),
    export_csv = list(
      rows = bars,
      file = file.path(folder, "out.csv"),
      zone = "UTC"
    ),
    export_table = list(
      bars, file.path(folder, "out.parquet"), zone = "UTC", by = NULL,
      dictionary = FALSE
    ),
    export_fill = list(
      facts = data.frame(
        symbol = "KELD", item = "revenue", value = 2,
        period_start = as.Date("2025-01-01"), period_end = as.Date("2025-12-31")
      ),
      file = file.path(folder, "model.csv"), table = NULL,
      symbol = "KELD", period = "annual", add = FALSE, filed = "last"
    ),
    export_append = list(
      rows = figures,
      file = file.path(folder, "grow.csv"),
      table = NULL,
      update = TRUE,
      zone = "UTC"
    ),
    export_database = list(
      archive = archive,
      database = file.path(folder, "out.sqlite"),
      ids = NULL,
      from = NULL,
      to = NULL,
      as_of = NULL
    ),
    export_dictionary = list(rows = bars),
    export_rows = list(
      tables = list(bars), form = "long", value = "close", zone = "UTC"
    ),
    rows_filter = list(rows = as.data.frame(bars), conditions = "close>40"),
    rows_compute = list(
      rows = as.data.frame(bars), formulas = "twice = 2 * close"
    ),
    collect_try = list(query = query, requests = 1, archive = archive),
    samples_keep = list(
      tried = structure(
        list(source = "a", dataset = "b", requests = list()),
        class = "vetusta_try"
      ),
      folder = file.path(folder, "samples")
    ),
    samples_test = list(source = quay, folder = folder, live = FALSE),
    rows_sort = list(rows = as.data.frame(bars), by = "close-"),
    rows_join = list(
      rows = data.frame(a = 1:2),
      other = data.frame(a = 2:1, b = 3:4),
      by = "a"
    ),
    rows_distinct = list(rows = as.data.frame(bars), columns = "symbol"),
    rows_count = list(rows = as.data.frame(bars), columns = "symbol"),
    rank_moves = list(
      rows = data.frame(symbol = "KELD", last = 2, before = 1, volume = 5),
      by = "up",
      limit = 3,
      min_volume = 1,
      min_price = 1,
      where = NULL
    ),
    rank_days = list(bars = bars, on = NULL, window = "1 year", zone = "UTC"),
    places_near = list(
      places = data.frame(place = "a", latitude = 57, longitude = 24),
      latitude = 57,
      longitude = 24,
      within = "3 km",
      limit = 2
    ),
    facts_statement = list(
      facts = data.frame(
        symbol = "KELD", item = "revenue", value = 2,
        period_start = as.Date("2025-01-01"), period_end = as.Date("2025-12-31")
      ),
      symbol = "KELD",
      period = "annual",
      items = NULL,
      filed = "last",
      as_of = NULL,
      form = "wide",
      limit = 2
    ),
    bars_adjust = list(
      bars = bars,
      actions = data.frame(
        symbol = "KELD", ex_day = as.Date("2026-03-13"), kind = "split",
        ratio = 2
      ),
      of = "splits",
      method = "ratio",
      anchor = "last",
      as_of = NULL,
      zone = "UTC"
    ),
    bars_jumps = list(
      bars = bars, actions = NULL, tolerance = 0.05, zone = "UTC"
    ),
    bars_continuous = list(
      bars = bars,
      contracts = data.frame(symbol = "KELD", last_day = as.Date("2026-03-13")),
      roll = "expiry",
      roll_days = 0,
      nth = 1,
      adjust = "none",
      anchor = "last",
      calendar = NULL,
      zone = "UTC"
    ),
    series_join = list(
      bars, bars, adjust = "none", overlap = NULL, tolerance = 0.1,
      value = "close", name = NULL, zone = "UTC"
    ),
    archive_check = list(archive = archive),
    archive_compact = list(archive = archive),
    archive_incomplete = list(archive = archive),
    archive_drop = list(
      archive = archive, what = "quay/bars/KELD@1 day", dry = TRUE
    ),
    archive_collectors = list(archive = archive),
    export_series = list(
      archive = archive,
      folder = file.path(folder, "parts"),
      ids = "KELD@1 minute",
      from = "2026-03-12",
      to = "2026-03-13",
      as_of = NULL,
      zone = "UTC",
      by = "symbol",
      at_once = 1000,
      change = NULL,
      progress = FALSE
    ),
    archive_scan = list(
      archive = archive, ids = "KELD@1 minute", f = nrow, by = 1000,
      from = "2026-03-12", to = "2026-03-13", as_of = NULL, zone = "UTC",
      workers = 1, progress = FALSE
    ),
    archive_copy = list(
      from = archive$path,
      to = file.path(folder, "moved.sqlite"),
      progress = FALSE,
      password = NULL
    ),
    archive_backup = list(
      archive = archive,
      file = file.path(folder, "copy.sqlite")
    ),
    archive_restore = list(
      from = file.path(folder, "none.sqlite"),
      file = file.path(folder, "restored.sqlite")
    ),
    archive_rescue = list(
      from = file.path(folder, "none.sqlite"),
      file = file.path(folder, "rescued.sqlite")
    ),
    archive_import_rows = list(
      archive = archive,
      file = csv,
      shape = "observations",
      dataset = "levels",
      source = "files",
      columns = c(period = "time", value = "close"),
      wide = FALSE
    ),
    import_card = list(card = list(interval = "1 day")),
    import_files = list(
      archive = archive, files = csv,
      card = list(interval = "1 day", symbol = "KELD")
    ),
    source_cookbook = list(word = "cursor"),
    archive_import_form = list(
      file = csv, skip = 0, separator = ",", decimal = ".", thousands = "",
      dates = "ymd", encoding = "UTF-8", missing = "-", sheet = "Sheet 1"
    ),
    archive_import_guess = list(file = csv),
    datasets_find = list(source = quay, words = "lock"),
    datasets_describe = list(source = quay, dataset = "X"),
    query_observations = list(source = quay, dataset = "X"),
    collect_run = list(
      plan = plan_requests(query, archive),
      into = archive,
      progress = FALSE,
      requests = 1,
      raw = FALSE,
      wait = 1
    ),
    collect_pages = list(plan = plan_requests(query, archive)),
    collect_reparse = list(source = quay, dataset = "bars", archive = archive),
    collect_repair = list(archive = archive, sources = list(quay = quay)),
    desk_open = list(folder = folder),
    desk_make = list(file.path(folder, "desk")),
    desk_secrets = list(folder),
    desk_new = list(folder = file.path(folder, "new"), title = "t"),
    desk_tracked = list(desk = desk, archive = archive),
    desk_track = list(
      desk = desk, name = "shares", source = "quay", dataset = "bars",
      symbols = "KELD", keys = list(), interval = "1 day", span = "1 year"
    ),
    desk_drop = list(desk = desk, name = "none"),
    desk_status = list(desk = desk, series = FALSE),
    desk_refresh = list(
      desk = desk, queries = NULL, plan = TRUE, progress = FALSE, wait = 1,
      outputs = FALSE
    ),
    desk_write = list(desk = desk, outputs = NULL),
    desk_schedule = list(desk = desk, now = Sys.time()),
    desk_crontab = list(desk = desk, zone = "UTC"),
    desk_units = list(desk = desk),
    report_choose = list(report = report_make(archive), parts = "*"),
    model_season = list(
      x = figures, trend = "linear", periods = "7 days", harmonics = 1,
      effects = NULL, filled = 1, value = NULL, as_of = NULL, calendar = NULL,
      level = 0.95
    ),
    model_decompose = list(
      x = figures, period = "7 days", robust = TRUE, value = NULL,
      as_of = NULL, calendar = NULL
    ),
    model_spectrum = list(
      x = figures, smooth = NULL, limit = 2, value = NULL, as_of = NULL,
      calendar = NULL
    ),
    model_dependence = list(
      x = figures, lags = 5, value = NULL, as_of = NULL, calendar = NULL
    ),
    model_tests = list(
      x = figures, lags = 5, value = NULL, as_of = NULL, calendar = NULL
    ),
    model_noise = list(
      x = noisy, order = c(1, 0), variance = "constant", residuals = "normal",
      harmonics = 1, value = NULL, as_of = NULL, calendar = NULL, level = 0.95
    ),
    model_paths = list(
      x = noise, n = 5, horizon = "5 days", seed = 1, from = "now",
      draw = "model", block = NULL, trend = "on", lower = -Inf, upper = Inf,
      calendar = NULL, each = NULL
    ),
    model_quantiles = list(
      paths = model_paths(noise, 5, "5 days"),
      probs = 0.5
    ),
    model_backtest = list(
      x = noisy,
      origins = "2026-03-01",
      horizon = "5 days",
      season = list(periods = numeric()),
      noise = list(order = c(1, 0)),
      n = 5,
      seed = 1,
      lower = -Inf,
      upper = Inf,
      value = NULL,
      calendar = NULL
    ),
    model_run = list(
      x = noisy,
      definition = list(season = list(periods = numeric())),
      calendar = NULL
    ),
    model_report = list(
      model = model_run(noisy, list(season = list(periods = numeric()))),
      title = "t",
      zone = "UTC"
    ),
    model_from_file = list(
      archive = archive,
      file = file.path(folder, "none.yml"),
      renew = FALSE,
      calendar = NULL
    ),
    index_sum = list(
      x = noisy, below = 0, above = NULL, season = c("02-01", "02-20"),
      most = 5, cap = 50, observed = NULL, trend = NULL, value = NULL
    ),
    payoff_value = list(
      index = index,
      terms = data.frame(strike = 1),
      history = index,
      payoff = NULL,
      season = NULL,
      loading = 0.2
    ),
    figure_spectrum = list(
      x = model_spectrum(noisy), title = "t", subtitle = "s", caption = "c",
      dark = FALSE
    ),
    figure_dependence = list(x = model_dependence(noisy), dark = FALSE),
    figure_parts = list(x = model_season(noisy), zone = "UTC", dark = FALSE),
    figure_fan = list(
      x = model_paths(noise, 5, "5 days"),
      came = noisy,
      before = "10 days",
      some = 1,
      zone = "UTC",
      dark = FALSE
    ),
    figure_index = list(
      x = index,
      terms = data.frame(strike = 1),
      history = index,
      season = NULL,
      dark = FALSE
    ),
    figure_payments = list(
      x = payoff_value(index, data.frame(strike = 1)),
      dark = FALSE
    ),
    figure_payoff = list(
      x = payoff_value(index, data.frame(strike = c(1, 2))),
      dark = FALSE
    )
  )
}

test_that("no argument, however wrong, gets an error of R's own", {
  withr::local_envvar(QUAY_KEY = NA)
  folder <- withr::local_tempdir()
  withr::local_dir(folder)
  archive <- new_archive()
  all <- calls_for_spoiling(archive, folder)
  # every function that all arguments derive from is covered; every exported
  # function is here, or left out with a reason
  left_out <- c(
    "archive_open", "archive_close", "cli_main", "services_serve",
    "services_start", "desk_browse", "desk_secret", "desk_source",
    "figure_save", "report_save", "source_secret", "datasets_themes",
    "query_selection", "source_login"
  )
  expect_setequal(c(names(all), left_out), getNamespaceExports("vetusta"))
  wrong <- character()
  for (name in names(all)) {
    run <- getExportedValue("vetusta", name)
    for (i in seq_along(all[[name]])) {
      for (kind in c(names(spoilt_values), "absent")) {
        arguments <- all[[name]]
        if (kind == "absent") {
          arguments <- arguments[-i]
        } else {
          arguments[i] <- list(spoilt_values[[kind]])
        }
        # writing to standard output is allowed
        if (name == "export_csv" && i == 2 && kind == "blank") next
        found <- tryCatch(
          {
            withr::with_output_sink(
              tempfile(),
              suppressWarnings(suppressMessages(do.call(run, arguments)))
            )
            NULL
          },
          vetusta_error = function(e) {
            if (length(e$todo) == 1 && nzchar(e$todo) && nzchar(e$what)) {
              NULL
            } else {
              "says nothing of what to do"
            }
          },
          error = conditionMessage
        )
        if (!is.null(found)) {
          wrong <- c(
            wrong,
            paste0(
              name, "(", names(all[[name]])[i] %||% i, " = ", kind, "): ", found
            )
          )
        }
      }
    }
  }
  expect_identical(wrong, character())
})

test_that("a missing or misspelt argument is named", {
  bars <- minute_bars()
  quay <- source_card("quay")
  archive <- new_archive()
  kind <- function(work) {
    tryCatch(
      {
        work()
        "a result"
      },
      vetusta_error = function(e) {
        if (nzchar(e$todo)) "told" else "without advice"
      },
      error = function(e) paste("R's own:", conditionMessage(e))
    )
  }
  for (name in setdiff(
    getNamespaceExports("vetusta"),
    c(
      "cli_main", "services_serve", "services_start", "desk_browse",
      "report_choose", "desk_open", "theme_vetusta", "source_cookbook"
    )
  )) {
    run <- getExportedValue("vetusta", name)
    expect_identical(kind(function() run()), "told", label = paste0(name, "()"))
  }
  given <- list(
    bars_resample = list(bars),
    query_bars = list(quay),
    archive_import = list(archive),
    series_aggregate = list(bars),
    series_disaggregate = list(bars),
    query_rows = list(quay),
    collect_reparse = list(quay),
    figure_save = list(figure_lines(bars)),
    time_local = list(as.Date("2026-01-01")),
    calendar_sessions = list(source_calendar("quay")),
    calendar_times = list(source_calendar("quay")),
    time_spelling = list(as.Date("2026-01-01")),
    archive_rows = list(archive, "x"),
    archive_revisions = list(archive),
    archive_trace = list(archive, "KELD"),
    series_convert = list(bars),
    export_table = list(bars),
    datasets_describe = list(source_card("basin")),
    source_secret = list(quay)
  )
  for (name in names(given)) {
    expect_identical(
      kind(function() do.call(name, given[[name]])), "told", label = name
    )
  }
  misspelt <- list(
    function() query_rows(quay, "directory", sectr = "barges"),
    function() archive_observations(archive, "b", "c", as_off = "2026-01-01"),
    function() series_align(bars, grdi = "union"),
    function() series_correlation(bars, chnge = "log")
  )
  for (work in misspelt) {
    expect_identical(kind(work), "told", label = deparse(body(work))[1])
  }
})
