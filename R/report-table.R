# Tables of a report and of the page: short ones as they are, long ones with
# search, sorting and a CSV.

report_table <- function(rows, name, zone, heads = NULL) {
  lines <- attr(rows, "lines")
  shown <- utils::head(as.data.frame(rows), 5000)
  shown <- shown[!vapply(shown, function(column) all(is.na(column)), TRUE)]
  few <- nrow(shown) < 8 || name %in% report_first
  table <- if (few) {
    report_table_plain(shown, name, zone, heads, lines)
  } else {
    report_table_searched(shown, name, zone)
  }
  htmltools::tagList(
    table,
    if (nrow(rows) > nrow(shown)) {
      htmltools::tags$p(
        class = "soft", paste(
          "the first", thousands(nrow(shown)), "of", thousands(nrow(rows)),
          "rows"
        )
      )
    }
  )
}

report_table_plain <- function(shown, name, zone, heads, lines) {
  tags <- htmltools::tags
  numbers <- vapply(shown, is.numeric, TRUE)
  cells <- lapply(names(shown), function(column) {
    if (column == "see") {
      report_see(shown$see, heads)
    } else {
      report_cells(shown[[column]], column, zone)
    }
  })
  names <- gsub("_", " ", names(shown))
  if (length(lines) == nrow(shown) && length(lines)) {
    cells <- c(cells, list(vapply(lines, report_spark, "")))
    names <- c(names, "last values")
    numbers <- c(numbers, FALSE)
  }
  class <- ifelse(numbers, "number", "text")
  body <- lapply(seq_len(nrow(shown)), function(i) {
    tags$tr(lapply(seq_along(cells), function(j) {
      tags$td(class = class[j], htmltools::HTML(cells[[j]][i]))
    }))
  })
  tags$div(
    class = "scroll", tabindex = "0", role = "group", `aria-label` = name,
    tags$table(
      tags$thead(tags$tr(Map(
        function(name, class) tags$th(scope = "col", class = class, name),
        names, class
      ))),
      tags$tbody(body)
    )
  )
}

# Links to the sections with the details.
report_see <- function(see, heads) {
  ifelse(
    see %in% heads,
    paste0("<a href=\"#", section_id(see), "\">", html_text(see), "</a>"),
    html_text(see)
  )
}

report_table_searched <- function(shown, name, zone, rows = 15) {
  numbers <- vapply(shown, is.numeric, TRUE)
  cells <- shown
  for (column in names(shown)[!numbers]) {
    cells[[column]] <- report_cells(shown[[column]], column, zone)
  }
  render <- function(columns, function_text) {
    if (length(columns)) {
      list(list(
        targets = I(unname(columns) - 1),
        render = htmlwidgets::JS(function_text)
      ))
    }
  }
  share <- names(shown) == "coverage" & numbers
  DT::datatable(
    cells,
    rownames = FALSE, escape = FALSE, class = "compact",
    colnames = gsub("_", " ", names(shown)), extensions = "Buttons",
    width = "100%", selection = "none",
    options = list(
      pageLength = rows, dom = "Bfrtip", scrollX = TRUE, autoWidth = FALSE,
      order = list(), language = list(search = "Search"),
      buttons = list(list(
        extend = "csv", text = "Save as CSV", filename = section_id(name),
        exportOptions = list(
          orthogonal = "export", modifier = list(page = "all"),
          format = list(body = htmlwidgets::JS(csv_cell))
        )
      )),
      columnDefs = c(
        render(which(numbers & !share), number_cell),
        render(which(share), share_cell),
        if (any(numbers)) {
          list(list(
            className = "number", targets = I(unname(which(numbers)) - 1)
          ))
        }
      )
    ),
    callback = htmlwidgets::JS(sprintf(
      "table.table().node().setAttribute('aria-label', %s);",
      jsonlite::toJSON(name, auto_unbox = TRUE)
    ))
  )
}

# A text that a spreadsheet would run gets an apostrophe in front; links are
# saved as their addresses, numbers as they are.
csv_cell <- paste0(
  "function(data) {",
  "  if (data === null || data === undefined) return '';",
  "  if (typeof data === 'number') return String(data);",
  "  const box = document.createElement('div');",
  "  box.innerHTML = data;",
  "  const link = box.querySelector('a');",
  "  const text = link ? link.href : box.textContent;",
  "  return /^[=@\\t\\r]|^[+-](?![0-9.,]+$)/.test(text) ? \"'\" + text : text;",
  "}"
)
number_cell <- paste0(
  "function(data, type) {",
  "  return type === 'display' && data !== null ? Number(data)",
  ".toLocaleString('en-US', { maximumSignificantDigits: 8 }) : data;",
  "}"
)
share_cell <- paste0(
  "function(data, type) {",
  "  return type === 'display' && data !== null ?",
  " (100 * data).toFixed(2) + '%' : data;",
  "}"
)

# The shown HTML of the values of a column.
report_cells <- function(column, name, zone) {
  text <- if (inherits(column, "POSIXct")) {
    format(column, "%Y-%m-%d %H:%M", tz = zone)
  } else if (inherits(column, "Date")) {
    format(column)
  } else if (name == "coverage" && is.numeric(column)) {
    ifelse(is.na(column), "", sprintf("%.2f%%", 100 * column))
  } else if (is.numeric(column)) {
    ifelse(
      is.na(column), "",
      format(
        signif(column, 8),
        big.mark = ",", trim = TRUE, scientific = FALSE, drop0trailing = TRUE
      )
    )
  } else {
    as.character(column)
  }
  text[is.na(text)] <- ""
  shown <- html_text(text)
  linked <- is_link(text)
  shown[linked] <- paste0(
    "<a href=\"", html_text(text[linked]), "\" rel=\"noreferrer\">",
    html_text(sub("^.*/([^/]+)/?$", "\\1", text[linked])), "</a>"
  )
  times <- length(text) && all(grepl("^([0-9]{4}-[0-9]{2}.*)?$", text))
  if (times) paste0("<span class=\"time\">", shown, "</span>") else shown
}
