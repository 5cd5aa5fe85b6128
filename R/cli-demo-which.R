# The part of the demo about directories of instruments, stations and companies,
# and about corporate actions.
demo_which <- function(desk, archive) {
  demo_step(
    "9  largest moves, statements, places, adjusted prices",
    paste0(
      "Warrants that hardly trade have the largest moves; a least ",
      "volume keeps them out."
    )
  )
  quay <- desk_source(desk, "quay")
  collect <- function(query) {
    collect_run(plan_requests(query, archive), archive, progress = FALSE)
  }
  market <- archive_rows(archive, "quay", "market")
  market$before <- signif(market$last - market$change, 12)
  shown <- c("rank", "symbol", "last", "percent", "volume")
  table <- function(rows) {
    if (!is.null(rows[["percent"]])) rows$percent <- round(rows$percent, 2)
    cat(text_table(as.data.frame(rows)), "", sep = "\n")
  }
  cat("without a floor:\n")
  table(rank_moves(market, "up", 3, min_volume = 0, min_price = 0)[shown])
  cat("with a least volume and price:\n")
  table(rank_moves(market, "up", 3)[shown])
  demo_companies(desk, archive, collect, table)
  demo_prices(quay, archive, collect, table)
}

demo_companies <- function(desk, archive, collect, table) {
  facts <- archive_read(archive, "register/facts/KELD.*")[[1]]
  items <- c(
    "revenue", "fuel_cost", "operating_profit", "net_profit", "total_assets",
    "equity", "other_cost = revenue - fuel_cost - operating_profit"
  )
  cat(
    paste0(
      "a statement by quarters; the fourth quarter is not filed: it is ",
      "the year less the ", "other three:\n"
    )
  )
  table(facts_statement(facts, "KELD", "quarterly", items, limit = 3))
  register <- desk_source(desk, "register")
  collect(query_rows(register, "filings", symbol = "KELD"))
  cat("the newest filings, fetched with their hashes:\n")
  filings <- utils::head(
    rows_sort(archive_rows(archive, "register", "filings"), "filed-"), 2
  )
  fetched <- collect_documents(
    register, filings, file.path(desk$folder, "filings"), archive,
    progress = FALSE
  )
  fetched$sha256 <- paste0(substr(fetched$sha256, 1, 12), "...")
  table(fetched[c("file", "bytes", "sha256", "outcome")])
  cat("stations within 40 km of 57.1 north, 24.3 east:\n")
  near <- places_near(
    archive_rows(archive, "river", "stations"), 57.1, 24.3, "40 km"
  )
  table(near[c("place", "name", "first", "distance_km")])
}

demo_prices <- function(quay, archive, collect, table) {
  for (dataset in c("actions", "contracts")) collect(query_rows(quay, dataset))
  collect(
    query_bars(
      quay, "KELD",
      interval = "1 day", from = "2025-09-08", to = "2025-09-19"
    )
  )
  days <- archive_bars(archive, "KELD", "1 day", source = "quay")
  adjusted <- bars_adjust(
    days, archive_rows(archive, "quay", "actions"),
    zone = quay$zone
  )
  cat(
    paste0(
      "KELD was split 2 for 1 on 15 September 2025; the days around it, ",
      "as traded and adjusted:\n"
    )
  )
  around <- days$time >= "2025-09-11" & days$time < "2025-09-17"
  table(
    data.frame(
      day = local_day(days$time, quay$zone),
      traded = days$close,
      adjusted = adjusted$close,
      factor = adjusted$factor
    )[around, ]
  )
  ends <- paste0("GRN-26", c("01", "02", "03", "04"))
  collect(
    query_bars(
      quay, ends,
      interval = "1 day", from = "2025-12-01", to = "2026-03-26"
    )
  )
  bars <- archive_read(archive, "quay/bars/GRN-*@1 day")[[1]]
  grain <- bars_continuous(
    bars, archive_rows(archive, "quay", "contracts"),
    roll = "volume",
    adjust = "ratio", calendar = source_calendar(quay)
  )
  cat(
    paste0(
      "grain, one continuous series of the most traded contracts, with ",
      "its rolls:\n"
    )
  )
  rolls <- attr(grain, "rolls")[c("day", "from", "to", "ratio")]
  rolls$ratio <- round(rolls$ratio, 4)
  table(rolls)
}
