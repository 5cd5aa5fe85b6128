# A report as one page of HTML: numbers, tables and interactive figures.

# Tables of the first screen, before the figures.
report_first <- c("Needs attention", "Newest values")

report_html <- function(report) {
  tags <- htmltools::tags
  first <- intersect(report_first, names(report$tables))
  others <- setdiff(names(report$tables), first)
  heads <- c(first, names(report$figures), others)
  tabled <- function(name) {
    report_section(
      name, report_table(report$tables[[name]], name, report$zone, heads)
    )
  }
  figures <- lapply(seq_along(report$figures), function(i) {
    report_section(
      names(report$figures)[i],
      figure_tags(
        report$figures[[i]], paste0("figure-", i),
        head = names(report$figures)[i]
      )
    )
  })
  body <- htmltools::tagList(
    tags$a(class = "skip", href = "#main", "To the report"),
    tags$header(
      tags$h1(report$title),
      tags$p(
        class = "soft",
        paste0(
          paste(report$summary, collapse = " "), " Made ",
          format_instant(report$made), "; times in ", report$zone,
          ". The request and the row that a value came from: vetusta trace ",
          "ID --at TIME; the IDs stand under Series."
        )
      ),
      report_numbers_tags(report$numbers)
    ),
    tags$nav(
      `aria-label` = "Contents",
      tags$ul(lapply(heads, function(head) {
        tags$li(tags$a(href = paste0("#", section_id(head)), head))
      }))
    ),
    tags$main(
      id = "main", lapply(first, tabled), figures, lapply(others, tabled)
    ),
    htmltools::HTML(lineage_tag(report))
  )
  html_lines(report$title, body, html_head(), "report")
}

section_id <- function(text) gsub("[^a-z0-9]+", "-", tolower(text))

report_section <- function(name, content) {
  htmltools::tags$section(
    `aria-labelledby` = section_id(name),
    htmltools::tags$h2(id = section_id(name), name), content
  )
}
