# Makes inst/desk/fixings.xlsx, the workbook of a new desk whose table grows:
# fixings of one day, a formula for the mid, and a summary sheet. Run it with
# the package installed:
#
#   Rscript tools/book.R
day <- as.POSIXct("2026-03-02 15:00:00", tz = "UTC")
legs <- c("LOWER", "MIDDLE", "UPPER", "ORV-TSK", "ORV-MIR", "ORV-LUD")
side <- function(leg, row) {
  as.numeric(vetusta:::fixing_candle(as.numeric(day), 86400, leg)[[row]]$lst)
}
fixings <- data.frame(
  time = as.Date("2026-03-03"),
  leg = legs,
  bid = vapply(legs, side, 0, row = 1),
  ask = vapply(legs, side, 0, row = 2),
  mid = NA_real_
)
book <- openxlsx2::wb_workbook(creator = "vetusta")
book$add_worksheet("Fixings")
book$add_data_table(
  "Fixings", fixings, table_name = "Fixings", na.strings = NULL
)
for (row in seq_along(legs) + 1) {
  book$add_formula(
    "Fixings", sprintf("(C%d+D%d)/2", row, row), paste0("E", row)
  )
}
last <- length(legs) + 1
book$add_numfmt("Fixings", sprintf("A2:A%d", last), "yyyy-mm-dd")
book$add_numfmt("Fixings", sprintf("C2:E%d", last), "0.0000")
book$set_col_widths("Fixings", 1:5, c(14, 12, 12, 12, 12))
book$add_worksheet("Summary")
about <- data.frame(
  What = c(
    "fixings", "highest mid of LOWER", "lowest mid of LOWER",
    "mean mid of ORV-TSK"
  ),
  Value = NA_real_
)
book$add_data("Summary", about, na.strings = NULL)
formulas <- c(
  "COUNT(Fixings[time])", "MAXIFS(Fixings[mid],Fixings[leg],\"LOWER\")",
  "MINIFS(Fixings[mid],Fixings[leg],\"LOWER\")",
  "AVERAGEIFS(Fixings[mid],Fixings[leg],\"ORV-TSK\")"
)
for (i in seq_along(formulas)) {
  book$add_formula("Summary", formulas[i], paste0("B", i + 1))
}
book$set_col_widths("Summary", 1:2, c(24, 12))
book$save("inst/desk/fixings.xlsx")
