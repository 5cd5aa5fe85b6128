# Statements: facts of companies as a table, items in rows and periods in
# columns.

#' A statement from facts
#'
#' Facts are arranged by item and period end, never by position. Quarters that a
#' company reports only as sums since the beginning of its year are computed,
#' and marked.
#'
#' @param facts A data frame of facts: `symbol`, `item`, `period_end` (`Date`),
#'   `value`; optionally `period_start` (missing for items at a day, such as
#'   total assets), `basis`, `unit`, `filed` (`Date`), and further columns, of
#'   which the first value counts (facts of a segment are left out).
#' @param symbol The companies; all of them by default.
#' @param period `"annual"`, `"quarterly"`, or `"trailing"` (the sum of four
#'   quarters, or the latest value of items at a day).
#' @param items Items and their order: names, or sums of others such as `"margin
#'   = operating_profit - interest"`; by default all, in order of first
#'   appearance.
#' @param filed For a figure filed several times, `"last"` or `"first"`.
#' @param as_of A day: later filings are ignored.
#' @param form `"wide"`: a row per item and a column per period, latest first
#'   (or, for one item of several companies, a row per period and a column per
#'   company). `"long"`: a row per value.
#' @param limit The number of periods, the latest ones.
#' @param complete Whether to return only complete data: for one item, companies
#'   with a value in each period; else the periods in which each company has all
#'   items.
#' @return A tibble. Long: `symbol`, `item`, `period_end`, `value`, `unit`,
#'   `made` (`filed` or `computed`), `filed` (`Date`, of the latest figure
#'   used). Wide: `symbol` for several companies, `item`, `unit`, and the period
#'   ends as columns. The attribute `computed` of a wide table is a matrix that
#'   marks computed values; the attribute `findings` has a row per year whose
#'   quarters do not add up: `symbol`, `item`, `period_end`, `year`, `quarters`.
#' @section Errors: `vetusta_error_argument` for an unknown item or company,
#'   with the nearest one, or an item in several units.
#' @export
#' @examples
#' facts <- data.frame(
#'   symbol = "KELD",
#'   item = "revenue",
#'   value = c(10, 24, 39, 55),
#'   period_start = as.Date("2025-01-01"),
#'   period_end = as.Date(
#'     c("2025-03-31", "2025-06-30", "2025-09-30", "2025-12-31")
#'   )
#' )
#' facts_statement(facts, period = "quarterly")
facts_statement <- function(facts, symbol = NULL, period = "annual",
                            items = NULL, filed = "last", as_of = NULL,
                            form = "wide", limit = Inf, complete = FALSE) {
  facts <- statement_facts(facts, symbol, filed, as_of)
  check_choice(period, "period", names(statement_periods))
  check_choice(form, "form", c("wide", "long"))
  check_number(limit, "limit", 1)
  check_flag(complete, "complete")
  wanted <- statement_items(items, facts$item)
  known <- facts[facts$item %in% wanted$used, , drop = FALSE]
  quarters <- statement_quarters(known)
  all <- statement_periods[[period]](known, quarters)
  all <- all[
    order(
      match(all$symbol, unique(facts$symbol)), match(all$item, wanted$used),
      -as.numeric(all$period_end)
    ), ,
    drop = FALSE
  ]
  all <- statement_sums(all, wanted)
  ends <- utils::head(sort(unique(all$period_end), decreasing = TRUE), limit)
  all <- all[all$period_end %in% ends, , drop = FALSE]
  if (complete) all <- statement_whole(all, wanted$shown)
  all <- as_rows(as.list(all))
  result <- if (form == "long") all else statement_wide(all, wanted$shown)
  attr(result, "findings") <- statement_findings(known, quarters)
  result
}

# Checked facts: those of whole companies, known on a day, one a period.
statement_facts <- function(facts, symbol, filed, as_of) {
  check_rows(facts, "facts")
  check_choice(filed, "filed", c("last", "first"))
  for (name in c("symbol", "item", "period_end", "value")) {
    check_column(facts, name)
  }
  n <- nrow(facts)
  day <- function(name) {
    if (is.null(facts[[name]])) {
      epoch_days(rep(NA_real_, n))
    } else {
      as_action_day(facts[[name]], "UTC")
    }
  }
  all <- list_frame(
    list(
      symbol = as.character(facts$symbol),
      item = as.character(facts$item),
      start = day("period_start"),
      period_end = day("period_end"),
      value = check_numbers(facts$value, "value"),
      unit = as.character(facts[["unit"]] %||% rep(NA_character_, n)),
      filed = day("filed")
    )
  )
  keep <- !is.na(all$value) & !is.na(all$period_end)
  if (!is.null(facts[["segment"]])) keep <- keep & is.na(facts$segment)
  if (!is.null(as_of)) {
    known <- local_day(time_instant(as_of, name = "as_of"), "UTC")
    keep <- keep & (is.na(all$filed) | all$filed <= known)
  }
  all <- all[keep, , drop = FALSE]
  if (!is.null(symbol)) check_text(symbol, "symbol", several = TRUE)
  for (name in symbol) {
    if (!name %in% all$symbol) {
      vetusta_stop(
        "argument",
        paste0("There are no facts of \"", name, "\"."),
        todo = suggest_word(name, unique(all$symbol))
      )
    }
  }
  if (!is.null(symbol)) all <- all[all$symbol %in% symbol, , drop = FALSE]
  statement_units(all)
  order <- order(all$filed, na.last = FALSE, method = "radix")
  all <- all[if (filed == "last") rev(order) else order, , drop = FALSE]
  key <- paste(all$symbol, all$item, all$start, all$period_end, sep = "\r")
  kept <- all[!duplicated(key), , drop = FALSE]
  # companies and items in order of first appearance
  kept <- kept[
    order(
      match(kept$symbol, unique(as.character(facts$symbol))),
      match(kept$item, unique(as.character(facts$item)))
    ), ,
    drop = FALSE
  ]
  kept$days <- as.numeric(kept$period_end - kept$start) + 1
  kept$made <- rep("filed", nrow(kept))
  kept
}

# One period of an item must have one figure: in two units it has two.
statement_units <- function(facts) {
  key <- paste(
    facts$symbol, facts$item, facts$start, facts$period_end,
    sep = "\r"
  )
  units <- unique(list_frame(list(key = key, unit = facts$unit)))
  twice <- units$key[duplicated(units$key)]
  if (length(twice)) {
    parts <- strsplit(twice[1], "\r", fixed = TRUE)[[1]]
    vetusta_stop(
      "argument",
      paste0(
        "The item ", parts[2], " of ", parts[1], " is filed in several ",
        "units: ", paste(units$unit[units$key == twice[1]], collapse = ", "),
        "."
      ),
      todo = "choose a unit: --unit, or rows_filter(facts, \"unit=...\")"
    )
  }
}

# list(shown, used, sums): the listed items, those needed to compute them, and
# sums.
statement_items <- function(items, known) {
  known <- unique(known)
  if (is.null(items)) {
    return(list(shown = known, used = known, sums = list()))
  }
  check_text(items, "items", several = TRUE)
  shown <- trimws(sub("=.*", "", items))
  sums <- list()
  for (i in grep("=", items, fixed = TRUE)) {
    parts <- trimws(sub("^[^=]*=", "", items[i]))
    words <- regmatches(parts, gregexpr("[+-]? *[^+ -][^+-]*", parts))[[1]]
    sums[[shown[i]]] <- list(
      item = trimws(sub("^[+-]", "", trimws(words))),
      sign = ifelse(startsWith(trimws(words), "-"), -1, 1)
    )
  }
  plain <- setdiff(shown, names(sums))
  used <- unique(
    c(plain, setdiff(unlist(lapply(sums, `[[`, "item")), names(sums)))
  )
  for (name in used) {
    if (!name %in% known) {
      vetusta_stop(
        "argument",
        paste0("No company has the item \"", name, "\"."),
        todo = suggest_word(name, known)
      )
    }
  }
  list(shown = shown, used = used, sums = sums)
}

statement_periods <- list(
  annual = function(facts, quarters) {
    flow <- facts[is_year(facts$days) %in% TRUE, , drop = FALSE]
    # items at an instant are shown at the ends of years
    stock <- facts[is.na(facts$days), , drop = FALSE]
    flow <- rbind(flow, statement_years(flow, quarters))
    ends <- unique(paste(flow$symbol, flow$period_end))
    rbind(
      flow,
      stock[
        paste(stock$symbol, stock$period_end) %in% ends | !nrow(flow), ,
        drop = FALSE
      ]
    )
  },
  quarterly = function(facts, quarters) {
    rbind(quarters, facts[is.na(facts$days), , drop = FALSE])
  },
  trailing = function(facts, quarters) {
    stock <- facts[is.na(facts$days), , drop = FALSE]
    rbind(statement_trailing(quarters), stock)
  }
)

# Years reported only as quarters: they end in the month of the company's other
# years, else in December.
statement_years <- function(flow, quarters) {
  sums <- statement_trailing(quarters)
  month <- function(day) format(day, "%m")
  ends <- vapply(
    sums$symbol,
    function(name) {
      months <- month(flow$period_end[flow$symbol == name])
      if (length(months)) names(sort(-table(months)))[1] else "12"
    },
    ""
  )
  key <- function(x) paste(x$symbol, x$item, x$period_end, sep = "\r")
  sums[
    month(sums$period_end) == ends & !key(sums) %in% key(flow), ,
    drop = FALSE
  ]
}

# Sums of four consecutive quarters.
statement_trailing <- function(quarters) {
  groups <- split(
    seq_len(nrow(quarters)), paste(quarters$symbol, quarters$item, sep = "\r")
  )
  made <- lapply(groups, function(rows) {
    ordered <- quarters[rows[order(quarters$period_end[rows])], , drop = FALSE]
    k <- nrow(ordered)
    if (k < 4) {
      return(NULL)
    }
    follows <- c(FALSE, is_quarter(as.numeric(diff(ordered$period_end))))
    last <- which(seq_len(k) >= 4)
    last <- last[vapply(last, function(i) all(follows[(i - 2):i]), TRUE)]
    sums <- vapply(last, function(i) sum(ordered$value[(i - 3):i]), 0)
    filed <- epoch_days(
      vapply(last, function(i) max(as.numeric(ordered$filed[(i - 3):i])), 0)
    )
    statement_made(
      ordered[last, ], ordered$start[pmax(1, last - 3)], sums, filed
    )
  })
  do.call(rbind, c(list(quarters[0, , drop = FALSE]), unname(made)))
}

# Sums of items, where all parts exist.
statement_sums <- function(all, wanted) {
  columns <- c("symbol", "item", "period_end", "value", "unit", "made", "filed")
  all <- all[columns]
  for (name in names(wanted$sums)) {
    rule <- wanted$sums[[name]]
    period <- unique(
      all[all$item %in% rule$item, c("symbol", "period_end"), drop = FALSE]
    )
    at <- lapply(rule$item, function(item) {
      match(
        paste(period$symbol, period$period_end, item),
        paste(all$symbol, all$period_end, all$item)
      )
    })
    values <- vapply(
      seq_along(at), function(i) rule$sign[i] * all$value[at[[i]]],
      numeric(nrow(period))
    )
    total <- rowSums(matrix(values, nrow(period)))
    first <- at[[1]]
    sums <- list_frame(
      list(
        symbol = period$symbol,
        item = rep(name, nrow(period)),
        period_end = period$period_end,
        value = total,
        unit = all$unit[first],
        made = rep("computed", nrow(period)),
        filed = all$filed[first]
      )
    )
    all <- rbind(all, sums[!is.na(total), , drop = FALSE])
  }
  all[all$item %in% wanted$shown, , drop = FALSE]
}

# Complete parts: companies with all periods of their one item, or periods with
# all items of all companies.
statement_whole <- function(all, items) {
  if (length(items) == 1) {
    count <- tapply(
      all$period_end, all$symbol, function(end) length(unique(end))
    )
    full <- names(count)[count == length(unique(all$period_end))]
    return(all[all$symbol %in% full, , drop = FALSE])
  }
  cells <- length(unique(all$symbol)) * length(items)
  count <- table(format(all$period_end))
  all[format(all$period_end) %in% names(count)[count == cells], , drop = FALSE]
}

statement_wide <- function(all, shown) {
  ends <- sort(unique(all$period_end), decreasing = TRUE)
  symbols <- unique(all$symbol)
  # one item of several companies is shown side by side
  beside <- length(symbols) > 1 && length(unique(all$item)) == 1
  rows <- if (beside) {
    list_frame(list(period_end = ends))
  } else {
    unique(all[c("symbol", "item")])
  }
  if (!beside) {
    rows <- rows[
      order(match(rows$symbol, symbols), match(rows$item, shown)), ,
      drop = FALSE
    ]
  }
  heads <- if (beside) symbols else format(ends)
  row <- if (beside) {
    match(all$period_end, ends)
  } else {
    match(paste(all$symbol, all$item), paste(rows$symbol, rows$item))
  }
  column <- if (beside) {
    match(all$symbol, symbols)
  } else {
    match(all$period_end, ends)
  }
  values <- matrix(
    NA_real_, nrow(rows), length(heads),
    dimnames = list(NULL, heads)
  )
  computed <- matrix(
    FALSE, nrow(rows), length(heads),
    dimnames = list(NULL, heads)
  )
  values[cbind(row, column)] <- all$value
  computed[cbind(row, column)] <- all$made != "filed"
  lead <- if (beside) {
    list(period_end = ends, unit = all$unit[match(ends, all$period_end)])
  } else {
    c(
      if (length(symbols) > 1) list(symbol = rows$symbol),
      list(
        item = rows$item,
        unit = all$unit[
          match(paste(rows$symbol, rows$item), paste(all$symbol, all$item))
        ]
      )
    )
  }
  columns <- lapply(seq_along(heads), function(j) as.vector(values[, j]))
  result <- as_rows(c(lead, stats::setNames(columns, heads)))
  attr(result, "computed") <- computed
  result
}

# Years whose four filed quarters have another sum.
statement_findings <- function(facts, quarters) {
  years <- facts[is_year(facts$days) %in% TRUE, , drop = FALSE]
  filed <- quarters[quarters$made == "filed", , drop = FALSE]
  computed <- lapply(seq_len(nrow(years)), function(i) {
    members <- statement_within(years[i, ], filed)
    total <- sum(members$value)
    if (nrow(members) != 4 ||
      abs(total - years$value[i]) <= 1e-6 * max(1, abs(years$value[i]))) {
      return(NULL)
    }
    list_frame(
      list(
        symbol = years$symbol[i], item = years$item[i],
        period_end = years$period_end[i], year = years$value[i],
        quarters = total
      )
    )
  })
  none <- list_frame(
    list(
      symbol = character(),
      item = character(),
      period_end = epoch_days(numeric()),
      year = numeric(),
      quarters = numeric()
    )
  )
  as_rows(as.list(do.call(rbind, c(list(none), computed))))
}
