# The commands on rows, moves, places, statements, actions and contracts, as
# processes.

which_desk <- function(env = parent.frame()) {
  services <- start_services(env = env)
  folder <- withr::local_tempdir(.local_envir = env)
  names <- c("quay", "river", "register")
  desk <- desk_make(
    folder,
    cards = names,
    urls = stats::setNames(as.list(paste0(services$root, "/", names)), names),
    secrets = as.list(vetusta:::standin_keys)
  )
  archive <- archive_open(desk$archive)
  on.exit(archive_close(archive))
  get <- function(query) {
    collect_run(plan_requests(query, archive), archive, progress = FALSE)
  }
  quay <- desk_source(desk, "quay")
  for (name in c("actions", "contracts", "market")) get(query_rows(quay, name))
  get(query_rows(quay, "directory"))
  get(
    query_bars(
      quay, c("KELD", "YSLT"),
      interval = "1 day", from = "2025-09-08",
      to = "2025-11-28"
    )
  )
  get(
    query_bars(
      quay, c("GRN-2602", "GRN-2603", "GRN-2604"),
      interval = "1 day",
      from = "2026-01-05", to = "2026-03-26"
    )
  )
  get(query_rows(desk_source(desk, "river"), "stations"))
  get(
    query_rows(
      desk_source(desk, "river"), "levels",
      station = "tamm-weir",
      from = "2026-01-01", to = "2026-03-01"
    )
  )
  get(
    query_rows(
      desk_source(desk, "register"), "facts",
      symbol = c("KELD", "BROM")
    )
  )
  folder
}

test_that("rows, moves, places, statements, actions and contracts", {
  folder <- which_desk()
  archive <- archive_open(file.path(folder, "archive.sqlite"))
  withr::defer(archive_close(archive))
  said <- function(...) {
    out <- run_vetusta(..., folder = folder)
    expect_identical(out$status, 0L, label = paste(c(...), out$stderr))
    out
  }
  got <- function(...) {
    utils::read.csv(text = said(...)$stdout, check.names = FALSE)
  }
  directory <- archive_rows(archive, "quay", "directory")
  counted <- got("rows", "quay/directory", "--count", "type")
  expect_identical(
    counted$count, sort(as.integer(table(directory$type)), decreasing = TRUE)
  )
  joined <- got(
    "rows", "quay/directory", "volume>=10000", "--join", "quay/market",
    "--sort", "volume-", "--limit", "5"
  )
  market <- archive_rows(archive, "quay", "market")
  own <- market[market$symbol %in% directory$symbol & market$volume >= 10000, ]
  expect_identical(joined$symbol, own$symbol[order(-own$volume)][1:5])
  said(
    "rows", "quay/directory", "type=fund", "--columns", "symbol", "--list",
    "funds.txt"
  )
  expect_identical(
    readLines(file.path(folder, "funds.txt")),
    directory$symbol[directory$type == "fund"]
  )
  # with and without minimum values
  moves <- said("rank", "quay/market", "--limit", "4")
  expect_match(moves$stderr, "left out: .* of another type")
  ranked <- utils::read.csv(text = moves$stdout)
  expect_true(all(ranked$type == "share" & ranked$volume >= 1000))
  any <- got(
    "rank", "quay/market", "--limit", "4", "--type", "any", "--min-volume",
    "0", "--min-price", "0"
  )
  expect_equal(
    any$percent,
    round(
      sort(
        100 * (market$last / (market$last - market$change) - 1),
        decreasing = TRUE
      )[1:4],
      2
    )
  )
  days <- got(
    "rank", "KELD@1 day", "YSLT@1 day", "--on", "2025-09-16", "--type", "any"
  )
  expect_identical(nrow(days), 2L)
  near <- got("near", "57.31,24.55", "--within", "40 km")
  expect_identical(near$place[1], "tamm-weir")
  expect_gt(near$coverage[1], 0.9)
  # the fourth quarter is the year minus the three filed quarters
  facts <- archive_read(archive, "register/facts/KELD.revenue*")[[1]]
  statement <- got("statement", "KELD", "--items", "revenue", "--limit", "1")
  year <- facts$basis == "annual" & facts$period_end == as.Date("2025-12-31")
  expect_equal(statement[["2025-12-31"]], facts$value[year])
  quarter <- got(
    "statement", "KELD", "--items", "revenue", "--limit", "1", "--quarterly",
    "--form", "long"
  )
  early <- facts$basis == "quarterly" & facts$period_end > as.Date("2025-01-01")
  expect_equal(quarter$value, facts$value[year] - sum(facts$value[early]))
  expect_identical(quarter$made, "computed")
  beside <- got(
    "statement", "BROM", "KELD", "--items", "net_profit", "--quarterly"
  )
  expect_identical(names(beside), c("period_end", "unit", "BROM", "KELD"))
  raw <- archive_bars(archive, "KELD", "1 day")
  adjusted <- got("adjust", "KELD@1 day", "--to", "2025-09-12")
  expect_equal(adjusted$close, raw$close[raw$time < "2025-09-13"] / 2)
  # a dividend before the window is measured at its own day
  whole <- got("adjust", "YSLT@1 day", "--of", "all", "--known", "2026-01-01")
  part <- got(
    "adjust", "YSLT@1 day", "--of", "all", "--known", "2026-01-01", "--to",
    "2025-09-30"
  )
  expect_identical(part$close, whole$close[seq_len(nrow(part))])
  expect_lt(part$factor[1], 1)
  expect_identical(
    said("adjust", "KELD@1 day", "--jumps")$stdout,
    "symbol,time,before,after,ratio\n"
  )
  rolls <- got(
    "continuous", "quay/bars/GRN-*@1 day", "--roll", "volume", "--rolls"
  )
  expect_identical(rolls$to, c("GRN-2603", "GRN-2604"))
  joined <- said(
    "join", "YSLT@1 day", "KELD@1 day", "--adjust", "ratio", "--tolerance",
    "0.001"
  )
  expect_match(
    joined$stderr, "adjusted to the level of the preceding part by the factor"
  )
  # an output of a desk may be adjusted
  cat(
    paste0(
      "outputs:\n  days: {series: [\"KELD@1 day\"], adjust: splits, to: ",
      "2025-09-12, file: d.csv}\n"
    ),
    file = file.path(folder, "desk.yml"),
    append = TRUE
  )
  expect_identical(desk_write(desk_open(folder))$outcome, "written")
  expect_equal(
    utils::read.csv(file.path(folder, "d.csv"))$close, adjusted$close
  )
})

test_that("what cannot be is answered with the nearest right word", {
  folder <- which_desk()
  wrong <- function(..., pattern) {
    out <- run_vetusta(..., folder = folder)
    expect_identical(out$status, 2L)
    expect_match(out$stderr, pattern)
    expect_false(grepl("internal error", out$stderr))
  }
  wrong(
    "rows", "quay/directory", "typ=share",
    pattern = "did you mean \"type\""
  )
  wrong("rows", "quay/directry", pattern = "did you mean \"directory\"")
  wrong("rows", "quay", pattern = "must be a source and a dataset")
  wrong("rows", "quay/market", "symbol>5", pattern = "is text")
  wrong("rank", "quay/market", "--by", "upp", pattern = "did you mean \"up\"")
  wrong("rank", "quay/market", "--by", "high", pattern = "needs the column")
  wrong("rank", "KELD@1 day", "--on", "2025-09-14", pattern = "no bars of")
  wrong("near", "124.3,57.1", pattern = "57.1,124.3")
  wrong("near", "57.1", pattern = "a latitude and a longitude")
  wrong("statement", "KELT", pattern = "did you mean \"KELD\"")
  wrong(
    "statement", "KELD", "--items", "revenu",
    pattern = "did you mean \"revenue\""
  )
  wrong(
    "statement", "KELD", "--annual", "--quarterly",
    pattern = "two statements"
  )
  wrong("adjust", "tamm-weir", pattern = "no bars")
  wrong(
    "adjust", "KELD@1 day", "--method", "additive",
    pattern = "cannot be \"additive\""
  )
  wrong(
    "adjust", "KELD@1 day", "--actions", "quay/actins",
    pattern = "did you mean \"actions\""
  )
  wrong("continuous", "KELD@1 day", pattern = "None of the bars")
  wrong("join", "KELD@1 day", pattern = "two series or more")
  wrong(
    "join", "KELD@1 day", "tamm-weir", "--adjust", "ratio",
    pattern = "in common"
  )
})
