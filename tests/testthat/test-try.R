# Trying a card before trusting it, and samples that are kept with it.

# Two pages of bars; the faults are in `state`.
try_service <- function(folder, env = parent.frame()) {
  answer <- function(n, request) {
    state <- dget(file.path(folder, "state"))
    if (nzchar(state$refuse)) {
      return(json_answer(list(error = state$refuse), status = 403L))
    }
    second <- grepl("page=2", request$QUERY_STRING)
    at <- 1773300600 + state$shift + 60 * (0:2) + if (second) 180 else 0
    items <- lapply(at, function(t) {
      stats::setNames(list(t, 40, state$note), c("t", state$close, "note"))
    })
    if (!second) items[[2]]["t"] <- list(NULL)
    json_answer(
      c(
        list(items = items, echo = request$HTTP_X_KEY),
        if (!second) {
          list(more = paste0("http://", request$HTTP_HOST, "/bars/KELD?page=2"))
        }
      ),
      list("X-RateLimit-Remaining" = "41", "X-Other" = "no")
    )
  }
  environment(answer) <- list2env(list(folder = folder), parent = globalenv())
  start_scripted(answer, env = env)
}
try_state <- function(folder, shift = 0, note = "a", close = "c", refuse = "") {
  dput(
    list(shift = shift, note = note, close = close, refuse = refuse),
    file.path(folder, "state")
  )
}

try_card <- function(url, env = parent.frame()) {
  bars_card(
    url,
    c(
      "limits: [100 per second]",
      "access: {by: header, name: X-Key, secret: TRY_KEY}", "calendar: quay",
      "zone: Europe/Riga", "datasets:", "  bars:", "    shape: bars",
      "    request: /bars/{symbol}{?from,to}",
      "    parameters: {from: {as: epoch-s}, to: {as: epoch-s}}",
      "    rows: /items", "    next_page: {by: url, at: /more}",
      paste0(
        "    columns: {time: {at: /t, as: epoch-s}, close: /c, note: {at: ",
        "/note, need: optional}}"
      )
    ),
    env
  )
}

# A folder that controls the service, its card, and a query.
try_made <- function(env = parent.frame()) {
  withr::local_envvar(TRY_KEY = "try-secret-1", .local_envir = env)
  folder <- withr::local_tempdir(.local_envir = env)
  try_state(folder)
  source <- try_card(try_service(folder, env), env)
  list(
    folder = folder,
    source = source,
    query = query_bars(
      source, "KELD", interval = "1 minute", from = "2026-03-12",
      to = "2026-03-13"
    )
  )
}

test_that("the request, the answer and its reading, without secrets", {
  made <- try_made()
  folder <- made$folder
  source <- made$source
  query <- made$query
  tried <- collect_try(query)
  expect_identical(length(tried$requests), 2L)
  expect_identical(nrow(tried$rows), 5L)
  expect_identical(tried$rejected$place, "/items/1/t")
  text <- paste(vetusta:::format_try(tried), collapse = "\n")
  expect_match(text, "X-Key: <secret>", fixed = TRUE)
  expect_match(text, "x-ratelimit-remaining: 41", fixed = TRUE)
  expect_match(text, "rows at /items: 2 rows", fixed = TRUE)
  expect_match(text, "page=2", fixed = TRUE)
  expect_false(grepl("try-secret-1|x-other", text))
  expect_null(tried$looks)
  expect_identical(length(collect_try(query, requests = 1)$requests), 1L)
  # requests are counted, and nothing is stored
  archive <- new_archive()
  collect_try(query, archive = archive)
  expect_identical(nrow(vetusta:::store_tokens(archive, source$source)), 2L)
  expect_identical(nrow(archive_series(archive)), 0L)
  # three hours later the bars are outside the sessions, years later in the
  # future
  try_state(folder, shift = 12 * 3600)
  expect_match(collect_try(query)$looks, "outside all sessions", all = FALSE)
  try_state(folder, shift = 20 * 365 * 86400)
  expect_match(collect_try(query)$looks, "in the future", all = FALSE)
  try_state(folder, shift = 30)
  expect_match(collect_try(query)$looks, "not on the grid", all = FALSE)
  try_state(folder, refuse = "no right to this")
  expect_match(
    collect_try(query)$requests[[1]]$error, "HTTP 403: .*no right to this"
  )
  try_state(folder, close = "last")
  expect_match(collect_try(query)$requests[[1]]$error, "close")
})

test_that("samples show what a card reads, and a changed service", {
  made <- try_made()
  folder <- made$folder
  source <- made$source
  query <- made$query
  samples <- file.path(folder, "samples")
  paths <- samples_keep(collect_try(query), samples)
  expect_true(all(file.exists(paths)))
  for (path in paths) {
    bytes <- readBin(path, "raw", file.size(path))
    expect_false(grepl("try-secret-1", rawToChar(bytes), fixed = TRUE))
  }
  done <- samples_test(source, samples)
  expect_identical(done$outcome, c("same", "same"))
  expect_identical(done$rows, c(2, 3))
  # a card that reads other rows is distinguished from one that reads the same
  other <- source
  other$datasets$bars$columns$close[c("at", "member")] <- list("/t", "t")
  expect_identical(
    samples_test(other, samples)$outcome, c("changed", "changed")
  )
  expect_match(samples_test(other, samples)$message[1], "row 1 was")
  other$datasets$bars <- NULL
  expect_identical(samples_test(other, samples)$outcome, c("failed", "failed"))
  # the service today: other values are no change, other columns are
  try_state(folder, shift = 60)
  expect_identical(
    samples_test(source, samples, live = TRUE)$outcome, c("same", "same")
  )
  try_state(folder, close = "last")
  expect_identical(
    samples_test(source, samples, live = TRUE)$outcome, c("changed", "changed")
  )
  try_state(folder, refuse = "gone")
  expect_match(samples_test(source, samples, live = TRUE)$message, "HTTP 403")
  expect_error_kind(samples_test(source, folder), "argument", "no samples")
  try_state(folder, refuse = "gone")
  expect_error_kind(
    samples_keep(collect_try(query), samples), "argument", "No row was read"
  )
  expect_identical(samples_test(source, samples)$outcome, c("same", "same"))
})

test_that("every ready card is tried at its service, from the command line", {
  services <- start_services()
  folder <- withr::local_tempdir()
  names <- c("quay", "fixing", "river", "register", "hall", "basin")
  desk <- desk_make(
    folder,
    cards = names,
    urls = stats::setNames(as.list(paste0(services$root, "/", names)), names),
    secrets = as.list(vetusta:::standin_keys)
  )
  said <- function(...) run_vetusta(..., folder = folder)
  for (words in list(
    c("quay", "KELD", "--interval", "1 day", "--from", "2026-03-12"),
    c("quay", "market"), c("quay", "actions"), c("quay", "contracts"),
    c("river", "stations"),
    c(
      "fixing", "ORV-TSK", "--interval", "1 day", "--from", "2026-03-12",
      "--to", "2026-03-20"
    ),
    c("register", "facts", "symbol=KELD"),
    c("register", "report", "symbol=KELD"),
    c("basin", "HARVEST", "STATE=ORV", "--from", "2020")
  )) {
    out <- do.call(
      said,
      as.list(
        c(
          "try", words,
          if (words[1] != "basin") c("--samples", "sources/samples")
        )
      )
    )
    expect_identical(
      out$status,
      0L,
      label = paste(c(words, out$stdout, out$stderr), collapse = " ")
    )
    expect_match(out$stdout, "read ", fixed = TRUE)
  }
  # an export returns a ticket, and an office's message needs no sample
  ticket <- said(
    "try", "hall", "SALT", "--interval", "1 day", "--from", "2020-01-01",
    "--to", "2020-12-31"
  )
  expect_match(ticket$stdout, "ticket .*salt")
  expect_match(
    said(
      "try", "basin", "HARVEST", "STATE=ORV", "--from", "2020", "--samples",
      "sources/samples"
    )$stderr,
    "No sample"
  )
  out <- said("sources", "test")
  expect_identical(out$status, 0L, label = out$stdout)
  expect_identical(said("sources", "test", "quay", "--live")$status, 0L)
  # without a desk too
  card <- file.path(desk$sources, "river.yml")
  writeLines(
    sub("^url:.*", paste0("url: ", services$root, "/river"), readLines(card)),
    file.path(folder, "alone.yml")
  )
  alone <- run_vetusta(
    "try",
    file.path(folder, "alone.yml"),
    "stations",
    folder = withr::local_tempdir(),
    env = c(SURVEY_TOKEN = "survey-demo-88ab")
  )
  expect_identical(alone$status, 0L, label = alone$stderr)
  # nothing was stored
  expect_false(
    file.exists(desk$archive) &&
      nrow(archive_series(archive_open(desk$archive))) > 0
  )
  expect_identical(
    said(
      "try", "quay", "KELT", "--interval", "1 day", "--from", "2026-03-12"
    )$status,
    1L
  )
  expect_match(said("try", "quay", "markt")$stderr, "did you mean \"market\"")
  expect_match(
    said("try", "quay", "market", "--requests", "none")$stderr,
    "must be a number"
  )
  expect_match(
    said("sources", "test", "hall")$stderr,
    "no samples of hall|no source|There is no"
  )
})
