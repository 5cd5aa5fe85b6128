# Statements against the true quarters, reported in every way.

# Three years of quarters of two items and one balance, and the facts that
# report them: as quarters, as sums since the beginning of the year, or as
# quarters with a year in place of the fourth.
told_facts <- function(seed, manner) {
  set.seed(seed)
  starts <- seq(as.Date("2023-01-01"), by = "3 months", length.out = 12)
  ends <- c(starts[-1], as.Date("2026-01-01")) - 1
  truth <- expand.grid(
    quarter = 1:12,
    item = c("revenue", "profit"),
    stringsAsFactors = FALSE
  )
  truth$value <- round(runif(24, 100, 900))
  fact <- function(item, start, end, value) {
    data.frame(
      symbol = "KELD", item = item, period_start = start, period_end = end,
      value = value, unit = "ORV", filed = end + 40
    )
  }
  facts <- list()
  for (item in c("revenue", "profit")) {
    for (year in 0:2) {
      own <- truth$value[truth$item == item][year * 4 + 1:4]
      for (q in 1:4) {
        i <- year * 4 + q
        first <- starts[year * 4 + 1]
        if (manner == "sums") {
          facts[[length(facts) + 1]] <-
            fact(item, first, ends[i], sum(own[1:q]))
        } else if (manner == "quarters" || q < 4) {
          facts[[length(facts) + 1]] <- fact(item, starts[i], ends[i], own[q])
        }
        if (q == 4 && manner != "sums") {
          facts[[length(facts) + 1]] <- fact(item, first, ends[i], sum(own))
        }
      }
    }
  }
  assets <- fact("assets", as.Date(NA), ends, round(runif(12, 1e3, 2e3)))
  facts <- rbind(do.call(rbind, facts), assets)
  list(
    facts = facts[sample(nrow(facts)), ],
    truth = truth,
    ends = ends,
    assets = assets$value
  )
}

test_that("quarters, years and sums of four, however reported", {
  for (seed in 1:6) {
    for (manner in c("quarters", "sums", "years")) {
      made <- told_facts(seed, manner)
      items <- c("revenue", "profit", "assets")
      long <- facts_statement(
        made$facts, period = "quarterly", items = items, form = "long"
      )
      for (item in c("revenue", "profit")) {
        own <- long[long$item == item, ]
        expect_identical(own$period_end, rev(made$ends))
        expect_equal(own$value, rev(made$truth$value[made$truth$item == item]))
        last <- format(own$period_end, "%m") == "12"
        first <- format(own$period_end, "%m") == "03"
        computed <- switch(manner,
          quarters = rep(FALSE, 12),
          sums = !first,
          years = last
        )
        expect_identical(own$made == "computed", computed)
      }
      expect_equal(long$value[long$item == "assets"], rev(made$assets))
      wide <- facts_statement(made$facts, period = "annual", items = items)
      expect_identical(
        names(wide), c("item", "unit", "2025-12-31", "2024-12-31", "2023-12-31")
      )
      expect_identical(wide$item, items)
      sums <- rowsum(
        made$truth$value, paste(made$truth$item, (made$truth$quarter - 1) %/% 4)
      )
      expect_equal(as.numeric(wide[1, 3:5]), rev(unname(sums[4:6, 1])))
      expect_equal(as.numeric(wide[3, 3:5]), made$assets[c(12, 8, 4)])
      trailing <- facts_statement(
        made$facts, period = "trailing", items = "revenue", form = "long"
      )
      revenue <- made$truth$value[made$truth$item == "revenue"]
      expect_equal(
        rev(trailing$value),
        vapply(4:12, function(i) sum(revenue[(i - 3):i]), 0)
      )
      expect_identical(nrow(attr(wide, "findings")), 0L)
    }
  }
})

test_that("years that follow from their quarters say so", {
  made <- told_facts(3, "quarters")
  facts <- made$facts
  long <- is.na(facts$period_start) |
      facts$period_end - facts$period_start < 100
  years <- facts_statement(
    facts[long, ],
    items = c("revenue", "assets"),
    form = "long"
  )
  all <- facts_statement(facts, items = c("revenue", "assets"), form = "long")
  expect_equal(years$value, all$value)
  expect_identical(years$made, rep(c("computed", "filed"), each = 3))
})

test_that("figures are as they were filed first, last, or as known at a day", {
  made <- told_facts(1, "quarters")$facts
  again <- made[
    made$item == "revenue" & made$period_end == as.Date("2024-03-31"),
  ]
  again$value <- 5
  again$filed <- as.Date("2025-02-01")
  facts <- rbind(made, again)
  value <- function(...) {
    all <- facts_statement(
      facts, period = "quarterly", items = "revenue", form = "long", ...
    )
    all$value[all$period_end == as.Date("2024-03-31")]
  }
  expect_identical(value(), 5)
  expect_identical(
    value(filed = "first"),
    made$value[
      made$item == "revenue" &
        made$period_end == as.Date("2024-03-31") &
        made$period_start == as.Date("2024-01-01")
    ]
  )
  expect_identical(value(as_of = "2025-01-31"), value(filed = "first"))
  expect_identical(value(as_of = "2024-04-01"), numeric())
  # no result contains a figure before it was filed
  for (day in c("2024-06-01", "2025-03-01")) {
    known <- facts[facts$filed <= as.Date(day), ]
    for (period in c("annual", "quarterly", "trailing")) {
      expect_identical(
        facts_statement(facts, period = period, as_of = day, form = "long"),
        facts_statement(known, period = period, form = "long")
      )
    }
  }
  # quarters that do not add up to the year are reported
  found <- attr(facts_statement(facts, items = "revenue"), "findings")
  expect_identical(found$period_end, as.Date("2024-12-31"))
})

test_that("order of items, sums, companies side by side", {
  made <- told_facts(2, "quarters")$facts
  wide <- facts_statement(
    made,
    items = c("cost = revenue - profit", "revenue", "assets")
  )
  expect_identical(wide$item, c("cost", "revenue", "assets"))
  profit <- facts_statement(made, items = "profit")
  expect_equal(
    wide[["2025-12-31"]][1], wide[["2025-12-31"]][2] - profit[["2025-12-31"]]
  )
  expect_true(attr(wide, "computed")[1, 1])
  other <- transform(made, symbol = "TAMX", value = value * 2)
  beside <- facts_statement(rbind(made, other), items = "revenue", limit = 2)
  expect_identical(names(beside), c("period_end", "unit", "KELD", "TAMX"))
  expect_equal(beside$TAMX, 2 * beside$KELD)
  both <- facts_statement(rbind(made, other))
  expect_identical(unique(both$symbol), unique(rbind(made, other)$symbol))
  expect_error_kind(
    facts_statement(made, items = "revenu"), "argument",
    "did you mean \"revenue\""
  )
  expect_error_kind(
    facts_statement(made, "KELT"), "argument", "did you mean \"KELD\""
  )
  expect_error_kind(facts_statement(made["symbol"]), "argument", "item")
  money <- rbind(made, transform(made, unit = "TSK"))
  expect_error_kind(
    facts_statement(money), "argument",
    "several units: ORV, TSK|several units: TSK, ORV"
  )
  expect_equal(
    facts_statement(rows_filter(money, "unit=ORV"))$item,
    facts_statement(made)$item
  )
})
