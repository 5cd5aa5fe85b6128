# Figures and reports: ratios to the bare work, in one run.
#
#   Rscript bench/figures.R
suppressMessages(library(vetusta))
options(digits = 4)
say <- function(...) cat(..., "\n", sep = "")
best <- function(work, n = 3) {
  min(vapply(
    seq_len(n),
    function(i) {
      gc()
      sum(system.time(work())[c("user.self", "sys.self")])
    },
    0
  ))
}
took <- function(work) {
  gc()
  system.time(work())[["elapsed"]]
}

# --- thinning 10,000,000 points to 2,000 columns, against one pass of range()
n <- 1e7
time <- as.numeric(seq_len(n))
value <- cumsum(rnorm(n))
thin <- best(function() series_thin(time, value, 2000))
pass <- best(function() range(value))
say(
  "thinning 10,000,000 points to 2,000 columns, to one pass of range(): ",
  thin / pass, " (", thin, " s)"
)
rm(time, value)

# --- candles of ten years of minutes, from the archive to a PNG
folder <- tempfile()
dir.create(folder)
archive <- archive_open(file.path(folder, "archive.sqlite"))
quay <- source_calendar("quay")
times <- calendar_times(quay, "1 minute", "2015-01-02", "2024-12-30")
close <- 40 * exp(cumsum(rnorm(length(times), 0, 3e-4)))
bars <- data.frame(
  symbol = "KELD", time = times, open = close, high = close * 1.001,
  low = close * 0.999, close = close, volume = 100, session = "regular",
  side = NA_character_, status = "observed"
)
for (part in split(seq_along(times), ceiling(seq_along(times) / 50000))) {
  vetusta:::store_put(
    archive,
    list(
      source = "quay",
      dataset = "bars",
      shape = "bars",
      rows = vetusta:::archive_parcel("bars", bars[part, ], frequency = "PT1M")
    )
  )
}
file <- file.path(folder, "candles.png")
read <- took(function() kept <<- archive_bars(archive, "KELD", "1 minute"))
attr(kept, "interval") <- time_interval("1 minute")
drawn <- took(
  function() made <<- suppressMessages(figure_candles(kept, calendar = quay))
)
written <- took(function() figure_save(made, file))
say(
  "candles of ", format(length(times), big.mark = ","),
  " minutes, from the archive to a PNG: ", read + drawn + written,
  " s: reading ", read, ", resampling and building ", drawn, ", writing ",
  written
)

# --- a report of 50 series
for (i in 1:50) {
  vetusta:::store_put(
    archive,
    list(
      source = "river",
      dataset = "levels",
      shape = "observations",
      rows = vetusta:::archive_parcel(
        "observations",
        data.frame(
          series = sprintf("s%02d", i),
          period = as.Date("2010-01-01") + 0:5000,
          value = 200 + cumsum(rnorm(5001))
        )
      )
    )
  )
}
page <- file.path(folder, "report.html")
spent <- took(
  function() report_save(report_make(archive, "river/levels/*"), page)
)
say(
  "a report of 50 series of 5,001 values: ", spent, " s, ",
  file.size(page) / 1e6, " MB"
)
archive_close(archive)

# --- `vetusta figure` with daily candles, against the same ggplot in a bare R
# process
run <- function(...) {
  took(function() {
    processx::run("Rscript", c("--no-init-file", "-e", ...), wd = folder)
  })
}
day <- utils::head(
  bars[bars$time >= as.POSIXct("2024-06-04", tz = "UTC"), ], 78
)
utils::write.csv(day, file.path(folder, "day.csv"), row.names = FALSE)
bare <- paste0(
  "library(ggplot2); x <- read.csv('day.csv'); x$at <- seq_len(nrow(x)); ",
  "png('bare.png', 1280, 800, res = 120, type = 'cairo'); ",
  "print(ggplot(x, aes(at)) + ",
  "geom_linerange(aes(ymin = low, ymax = high)) + ",
  "geom_rect(aes(xmin = at - 0.34, ",
  "xmax = at + 0.34, ymin = pmin(open, close), ymax = pmax(open, ",
  "close))) + theme_minimal()); ", "dev.off()"
)
ours <- min(
  replicate(
    3,
    run(
      "vetusta::cli_main()", "figure", "candles", "KELD@1 minute", "--archive",
      "archive.sqlite", "--from", "2024-06-04", "--to", "2024-06-04", "--file",
      "ours.png"
    )
  )
)
plain <- min(replicate(3, run(bare)))
say(
  paste0(
    "`vetusta figure` of a day's candles, to the same ggplot in a ",
    "bare R process: "
  ),
  ours / plain, " (", ours, " s)"
)
