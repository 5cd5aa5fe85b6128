# Makes inst/desk/rates.xlsx, the workbook of a new desk whose table grows: one day, the formulas
# that go on, and a sheet that sums up. Run it with the package installed: Rscript tools/book.R
day <- as.POSIXct("2026-03-02 15:00:00", tz = "UTC")
mid <- function(currency) {
  candle <- vetusta:::fixing_candle(as.numeric(day), 86400, c("ORV", currency), Inf)
  as.numeric(candle$mid$lst)
}
rates <- data.frame(time = day, mid("TSK"), mid("MIR"), mid("LUD"), NA_real_)
names(rates) <- c("time", "ORV-TSK mid", "ORV-MIR mid", "ORV-LUD mid", "Change of TSK")
book <- openxlsx2::wb_workbook(creator = "vetusta")
book$add_worksheet("Rates")
book$add_data_table("Rates", rates, table_name = "Daily", na.strings = NULL)
book$add_formula("Rates", "IF(ISNUMBER(B1),B2/B1-1,0)", "E2")
book$add_numfmt("Rates", "A2", "yyyy-mm-dd hh:mm")
book$add_numfmt("Rates", "B2:D2", "0.0000")
book$add_numfmt("Rates", "E2", "0.00%")
book$set_col_widths("Rates", 1:5, c(18, 14, 14, 14, 16))
book$add_worksheet("Summary")
about <- data.frame(What = c("days", "highest ORV-TSK", "lowest ORV-TSK", "mean ORV-LUD"),
  Value = NA_real_)
book$add_data("Summary", about, na.strings = NULL)
formulas <- c("COUNT(Daily[time])", "MAX(Daily[ORV-TSK mid])", "MIN(Daily[ORV-TSK mid])",
  "AVERAGE(Daily[ORV-LUD mid])")
for (i in seq_along(formulas)) book$add_formula("Summary", formulas[i], paste0("B", i + 1))
book$set_col_widths("Summary", 1:2, c(20, 12))
book$save("inst/desk/rates.xlsx")
