# Quarters of statements: filed ones, and those derived from sums.

# The length of a year and a quarter in days.
is_year <- function(days) days >= 340 & days <= 390
is_quarter <- function(days) days >= 80 & days <= 100

# Quarters of flow items: filed ones, differences of two sums from the same
# start, and a year minus its other three quarters.
statement_quarters <- function(facts) {
  flows <- facts[!is.na(facts$start), , drop = FALSE]
  filed <- flows[is_quarter(flows$days), , drop = FALSE]
  # sums from the same start
  key <- paste(flows$symbol, flows$item, flows$start)
  several <- which(key %in% key[duplicated(key)])
  made <- lapply(split(several, key[several]), function(rows) {
    ordered <- flows[rows[order(flows$period_end[rows])], , drop = FALSE]
    gap <- as.numeric(diff(ordered$period_end))
    i <- which(is_quarter(gap))
    statement_made(
      ordered[i + 1, ], ordered$period_end[i] + 1,
      ordered$value[i + 1] - ordered$value[i],
      pmax(ordered$filed[i + 1], ordered$filed[i])
    )
  })
  all <- do.call(rbind, c(list(filed), unname(made)))
  all <- all[
    !duplicated(paste(all$symbol, all$item, all$period_end, sep = "\r")), ,
    drop = FALSE
  ]
  rest <- statement_fourths(flows[is_year(flows$days), , drop = FALSE], all)
  rbind(all, rest)
}

statement_made <- function(like, start, value, filed) {
  like$start <- start
  like$value <- value
  like$days <- as.numeric(like$period_end - start) + 1
  like$filed <- filed
  like$made <- rep("computed", nrow(like))
  like
}

# The quarter missing from a year, if one is missing.
statement_fourths <- function(years, quarters) {
  made <- lapply(seq_len(nrow(years)), function(i) {
    year <- years[i, ]
    members <- statement_within(year, quarters)
    if (nrow(members) != 3) {
      return(NULL)
    }
    # usually the last one, because companies report no fourth quarter
    if (any(abs(members$period_end - year$period_end) < 10)) {
      return(NULL)
    }
    statement_made(
      year, max(members$period_end) + 1, year$value - sum(members$value),
      max(c(year$filed, members$filed))
    )
  })
  do.call(rbind, made)
}

statement_within <- function(year, quarters) {
  quarters[
    quarters$symbol == year$symbol &
      quarters$item == year$item &
      quarters$start >= year$start - 10 &
      quarters$period_end <= year$period_end + 10, ,
    drop = FALSE
  ]
}
