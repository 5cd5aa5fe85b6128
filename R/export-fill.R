# A model's sheet: rows of companies and items, columns of periods, filled with
# stored facts.

#' Fill a table of items and periods with facts
#'
#' Fills a table that is not ours: its rows name items (and companies), its
#' heads name years, quarters or days. Formulas, other columns and everything
#' around the table stay.
#'
#' @param facts Facts, as for [facts_statement()].
#' @param file An existing `.csv`, `.tsv` or `.xlsx` file.
#' @param table The name of a table in a workbook, or of a sheet with one table.
#' @param symbol The company, if the table has no column `symbol` or `company`.
#' @param period `"annual"` or `"quarterly"`, for heads that are days; by
#' default
#'   by their distance.
#' @param add Whether newer periods become new columns, headed like the others
#'   and in their order.
#' @param filed For a figure filed several times, `"last"` or `"first"`.
#' @return Invisibly a list of class `vetusta_fill`: `file`, `table`, `changed`
#'   (cells), `unchanged`, `added` (heads of new columns), `unknown` (rows
#'   without a fact, as `KELD revenue`).
#' @section Errors: `vetusta_error_export` for a missing file or table, a table
#'   without items or periods, or a file that is open elsewhere; the file is
#'   unchanged then.
#' @export
#' @examples
#' file <- tempfile(fileext = ".csv")
#' writeLines(c("item,2025,2024", "revenue,,"), file)
#' facts <- data.frame(
#'   symbol = "KELD", item = "revenue", value = c(55, 51),
#'   period_start = as.Date(c("2025-01-01", "2024-01-01")),
#'   period_end = as.Date(c("2025-12-31", "2024-12-31"))
#' )
#' export_fill(facts, file, symbol = "KELD")
#' readLines(file)
export_fill <- function(facts, file, table = NULL, symbol = NULL,
                        period = NULL, add = FALSE, filed = "last") {
  check_rows(facts, "facts")
  check_text(file, "file", "export")
  check_flag(add, "add")
  if (!is.null(symbol)) check_text(symbol, "symbol", "export")
  if (!is.null(period)) {
    check_choice(period, "period", c("annual", "quarterly"), "export")
  }
  ending <- export_ending(file, c("csv", "tsv", "xlsx"))
  if (!file.exists(file)) {
    vetusta_stop(
      "export", "There is no such file to fill.",
      where = file, todo = "make the table: items in rows, periods in heads"
    )
  }
  values <- function(grid) {
    fill_values(grid, facts, symbol, period, add, filed, file)
  }
  done <- with_locked_file(file, function() {
    if (ending == "xlsx") {
      check_text(table, "table", "export")
      filled_sheet(file, table, values)
    } else {
      filled_text(file, text_separator(file, ending), values)
    }
  })
  invisible(structure(
    c(list(file = file, table = table), done),
    class = "vetusta_fill"
  ))
}

# Heads of columns as periods: a data frame of `kind` (annual, quarterly, day;
# NA for other heads) and `end`.
fill_periods <- function(heads) {
  text <- trimws(heads)
  kind <- rep(NA_character_, length(text))
  end <- rep(as.Date(NA), length(text))
  year <- grepl("^(FY ?)?(19|20)[0-9]{2}$", text, ignore.case = TRUE)
  kind[year] <- "annual"
  end[year] <- as.Date(
    paste0(gsub("[^0-9]", "", text[year]), "-12-31", recycle0 = TRUE)
  )
  quarter <- grepl("^((19|20)[0-9]{2}[ -]?Q[1-4]|Q[1-4][ -]?(19|20)[0-9]{2})$",
    text,
    ignore.case = TRUE
  )
  if (any(quarter)) {
    number <- as.integer(sub(".*Q([1-4]).*", "\\1", toupper(text[quarter])))
    of <- regmatches(text[quarter], regexpr("(19|20)[0-9]{2}", text[quarter]))
    kind[quarter] <- "quarterly"
    end[quarter] <- as.Date(
      paste0(of, c("-03-31", "-06-30", "-09-30", "-12-31")[number])
    )
  }
  day <- read_day(text)
  spelled <- which(is.na(day) & grepl(date_like, text))
  pattern <- if (length(spelled)) day_pattern(text[spelled])
  if (!is.null(pattern)) {
    day[spelled] <- read_written(text[spelled], "day", "UTC", pattern)
  }
  kind[!is.na(day)] <- "day"
  end[!is.na(day)] <- day[!is.na(day)]
  data.frame(kind = kind, end = end)
}

# What belongs into the cells of a grid: list(rows, columns, values (a matrix;
# NA where no fact is known), added (heads), unknown). `grid` is a list of
# `heads` and `cells`, texts by column.
fill_values <- function(grid, facts, symbol, period, add, filed, file) {
  lower <- tolower(trimws(grid$heads))
  stop_fill <- function(what, todo) {
    vetusta_stop(
      "export", what,
      where = paste0(
        file, ", whose heads are ", paste(grid$heads, collapse = ", ")
      ),
      todo = todo
    )
  }
  item_at <- match(c("item", "items"), lower)
  item_at <- item_at[!is.na(item_at)][1]
  if (is.na(item_at)) {
    stop_fill(
      "The table has no column of items.", "give a column the head item"
    )
  }
  symbol_at <- match(c("symbol", "company", "ticker"), lower)
  symbol_at <- symbol_at[!is.na(symbol_at)][1]
  if (is.na(symbol_at) && is.null(symbol)) {
    stop_fill(
      "The table has no column of companies.",
      "give a column the head symbol, or name the company with symbol"
    )
  }
  periods <- fill_periods(grid$heads)
  at <- which(!is.na(periods$kind))
  if (!length(at)) {
    stop_fill(
      "No head of the table is a period.",
      "write heads as 2025, 2025-Q1 or 2025-12-31"
    )
  }
  periods <- periods[at, ]
  # heads that are days do not say whether they end years or quarters
  kinds <- vapply(fill_heads[periods$kind], `[[`, "", "period")
  apart <- diff(sort(as.numeric(periods$end[is.na(kinds)])))
  kinds[is.na(kinds)] <- period %||%
    if (length(apart) && min(apart) < 300) "quarterly" else "annual"
  item <- trimws(as.character(grid$cells[[item_at]]))
  company <- if (is.na(symbol_at)) {
    rep(symbol, length(item))
  } else {
    trimws(as.character(grid$cells[[symbol_at]]))
  }
  rows <- which(!is.na(item) & nzchar(item) & !is.na(company) & nzchar(company))
  known <- intersect(unique(company[rows]), facts$symbol)
  long <- lapply(stats::setNames(nm = unique(kinds)), function(kind) {
    if (length(known)) {
      facts_statement(
        facts, known, kind,
        filed = filed, form = "long"
      )
    }
  })
  heads <- grid$heads[at]
  if (add) {
    newer <- fill_newer(long, kinds, periods, heads, company[rows], item[rows])
    periods <- rbind(periods, newer[c("kind", "end")])
    kinds <- c(kinds, rep(kinds[1], nrow(newer)))
    heads <- c(heads, newer$head)
  }
  values <- vapply(seq_along(heads), function(i) {
    found <- long[[kinds[i]]]
    if (is.null(found)) {
      return(rep(NA_real_, length(rows)))
    }
    here <- found[
      fill_heads[[periods$kind[i]]]$matches(found$period_end, periods$end[i]),
    ]
    here <- here[order(here$period_end, decreasing = TRUE), ]
    here$value[match(
      paste(company[rows], item[rows], sep = "\r"),
      paste(here$symbol, here$item, sep = "\r")
    )]
  }, numeric(length(rows)))
  values <- matrix(values, length(rows), length(heads))
  without <- rowSums(!is.na(values)) == 0
  list(
    rows = rows,
    columns = at,
    heads = heads,
    backwards = length(at) > 1 && all(diff(periods$end[seq_along(at)]) < 0),
    values = values,
    unknown = paste(company[rows], item[rows])[without]
  )
}

# Each kind of head: the period of its statement, whether a period end belongs
# to it, and the head of a later period.
fill_heads <- list(
  annual = list(
    period = "annual",
    matches = function(end, wanted) format(end, "%Y") == format(wanted, "%Y"),
    later = function(head, end) {
      mapply(sub, "[0-9]{4}", format(end, "%Y"), head)
    }
  ),
  quarterly = list(
    period = "quarterly",
    matches = function(end, wanted) {
      quarters(end) == quarters(wanted) &
        format(end, "%Y") == format(wanted, "%Y")
    },
    later = function(head, end) {
      mapply(
        function(year, quarter) {
          sub("[0-9]{4}", year, sub("[Qq][1-4]", quarter, head))
        },
        format(end, "%Y"), quarters(end)
      )
    }
  ),
  day = list(
    period = NA_character_,
    matches = function(end, wanted) end == wanted,
    later = function(head, end) format(end)
  )
)

# Periods of the statement after the newest head, headed in the same way.
fill_newer <- function(long, kinds, periods, heads, company, item) {
  kind <- kinds[which.max(periods$end)]
  shape <- periods$kind[which.max(periods$end)]
  head <- heads[which.max(periods$end)]
  found <- long[[kind]]
  asked <- paste(found$symbol, found$item) %in% paste(company, item)
  end <- sort(
    unique(found$period_end[asked & found$period_end > max(periods$end)])
  )
  if (!length(end)) {
    return(
      data.frame(
        kind = character(), end = as.Date(character()), head = character()
      )
    )
  }
  name <- fill_heads[[shape]]$later(head, end)
  once <- !duplicated(name)
  data.frame(kind = shape, end = end[once], head = unname(name)[once])
}

filled_text <- function(file, separator, values) {
  check_heads(file, separator)
  texts <- append_errors(table_of_texts(file), file)
  commas <- if (separator != ",") names(texts)[vapply(texts, has_commas, TRUE)]
  filled <- values(list(heads = names(texts), cells = as.list(texts)))
  before <- texts
  columns <- as.list(texts)
  comma <- any(names(texts)[filled$columns] %in% commas)
  for (i in seq_along(filled$heads)) {
    name <- filled$heads[i]
    column <- columns[[name]] %||% rep(NA_character_, nrow(texts))
    # a formula stays
    known <- which(
      !is.na(filled$values[, i]) &
        !startsWith(column[filled$rows] %|text|% "", "=")
    )
    text <- format_exact(filled$values[known, i])
    if (comma) text <- sub(".", ",", text, fixed = TRUE)
    # a cell with an equal number stays as it is written
    old <- column[filled$rows[known]]
    equal <- plain_number(if (comma) with_points(old) else old) ==
      filled$values[known, i]
    text[equal %in% TRUE] <- old[equal %in% TRUE]
    column[filled$rows[known]] <- text
    columns[[name]] <- column
  }
  added <- filled$heads[-seq_along(filled$columns)]
  names <- names(before)
  if (length(added)) {
    names <- if (filled$backwards) {
      append(names, rev(added), min(filled$columns) - 1)
    } else {
      append(names, added, max(filled$columns))
    }
  }
  out <- list_frame(columns[names])
  same <- lapply(names(before), function(name) {
    before[[name]] == out[[name]] | is.na(before[[name]]) & is.na(out[[name]])
  })
  changed <- sum(!unlist(same) %in% TRUE) +
    sum(!is.na(unlist(as.list(out)[added])))
  if (changed || length(added)) {
    write_whole(file, function(path) {
      csv_write(out, path, separator, TRUE, columns_of_words(texts))
      with_marks_of(file, path)
    })
  }
  fill_counts(filled, changed, added)
}

`%|text|%` <- function(x, y) ifelse(is.na(x), y, x)

fill_counts <- function(filled, changed, added) {
  list(
    changed = changed,
    unchanged = sum(!is.na(filled$values)) - changed,
    added = added,
    unknown = filled$unknown
  )
}

#' @export
print.vetusta_fill <- function(x, ...) {
  cat(format_fill(x), "\n", sep = "")
  invisible(x)
}

format_fill <- function(x) {
  paste0(
    basename(x$file), if (!is.null(x$table)) paste0(", table ", x$table), ": ",
    counted(x$changed, "cell"), " filled, ", thousands(x$unchanged),
    " as before",
    if (length(x$added)) {
      paste0("; new columns: ", paste(x$added, collapse = ", "))
    },
    if (length(x$unknown)) {
      paste0("; without facts: ", few_words(x$unknown, 5))
    }
  )
}
