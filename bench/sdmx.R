# 1,000,000 observations in structure-specific XML, SDMX-JSON and SDMX-CSV: time
# and peak memory against the bare parse of the same bytes; run from the
# project's folder with `make bench`. Every number is of this run; the ratios
# are what counts.

source("bench/parts.R")
arguments <- commandArgs(TRUE)
rows <- if (length(arguments)) as.numeric(arguments[1]) else 1e6
each <- 200
n_series <- rows / each
set.seed(7)
keys <- data.frame(
  FREQ = "M",
  STATE = rep(sprintf("S%03d", seq_len(n_series / 50)), each = 50),
  CARGO = rep(sprintf("C%02d", 1:50), n_series / 50)
)
times <- format(
  seq(as.Date("2000-01-01"), by = "month", length.out = each), "%Y-%m"
)
value <- round(stats::rnorm(rows, 500, 80), 2)
status <- sample(c("A", "P", "E"), rows, TRUE, c(0.9, 0.05, 0.05))
owner <- rep(seq_len(n_series), each = each)
folder <- tempfile("messages")
dir.create(folder)
key_text <- paste0(
  ' FREQ="M" STATE="', keys$STATE, '" CARGO="', keys$CARGO, '"'
)
obs <- paste0(
  '<Obs TIME_PERIOD="', times, '" OBS_VALUE="', value, '" OBS_STATUS="',
  status, '"/>'
)
cat(
  paste0(
    '<?xml version="1.0" encoding="UTF-8"?><m:StructureSpecificData ',
    'xmlns:m="m" ',
    paste0(
      'xmlns:s="s"><m:Header><m:ID>B</m:ID><m:Structure structureID="S" ',
      'dimensionAtObservation="TIME_PERIOD"/></m:Header><m:DataSet ',
      's:structureRef="S">'
    )
  ),
  paste0(
    "<Series", key_text, ">",
    vapply(split(obs, owner), paste, "", collapse = ""), "</Series>"
  ),
  "</m:DataSet></m:StructureSpecificData>",
  file = file.path(folder, "m.xml"),
  sep = ""
)
index <- paste0(
  "0:", match(keys$STATE, unique(keys$STATE)) - 1, ":",
  match(keys$CARGO, unique(keys$CARGO)) - 1
)
ids <- function(x) paste0('{"id":"', unique(x), '"}', collapse = ",")
cells <- paste0(
  '"', rep(seq_len(each) - 1, n_series), '":[', value, ",",
  match(status, c("A", "P", "E")) - 1, "]"
)
cat(
  paste0(
    '{"meta":{},"data":{"structure":{"dimensions":{"series":[{"id":"FREQ",',
    '"values":[{"id":"M"}]},{"id":"STATE","values":['
  ),
  ids(keys$STATE),
  ']},{"id":"CARGO","values":[',
  ids(keys$CARGO),
  ']}],"observation":[{"id":"TIME_PERIOD","values":[',
  ids(times),
  paste0(
    ']}]},"attributes":{"series":[],"observation":[{"id":"OBS_STATUS",',
    '"values":[{"id":"A"},',
    '{"id":"P"},{"id":"E"}]}]}},"dataSets":[{"series":{'
  ),
  paste0(
    '"', index, '":{"observations":{',
    vapply(split(cells, owner), paste, "", collapse = ","), "}}", collapse = ","
  ),
  "}}]}}",
  file = file.path(folder, "m.json"),
  sep = ""
)
data.table::fwrite(
  data.frame(
    DATAFLOW = "B:F(1.0)", keys[owner, ], TIME_PERIOD = times,
    OBS_VALUE = value, OBS_STATUS = status
  ),
  file.path(folder, "m.csv")
)

# each in its own process, with its own peak memory; the memory of the bytes and
# of an idle process is subtracted
decode <- quote({
  body <- readBin(arguments[1], "raw", file.size(arguments[1]))
  message <- vetusta:::decode_sdmx(body, c("FREQ", "STATE", "CARGO"), "bench")
  stopifnot(length(message$obs$value) == as.numeric(arguments[2]))
})
bare <- list(
  xml = quote({
    body <- readBin(arguments[1], "raw", file.size(arguments[1]))
    document <- xml2::read_xml(body)
  }),
  json = quote({
    body <- readBin(arguments[1], "raw", file.size(arguments[1]))
    parsed <- RcppSimdJson::fparse(
      body, max_simplify_lvl = "vector", int64_policy = "double"
    )
  }),
  csv = quote({
    body <- readBin(arguments[1], "raw", file.size(arguments[1]))
    parsed <- data.table::fread(text = rawToChar(body), showProgress = FALSE)
  })
)
idle <- measure(quote(loadNamespace("xml2")))[2]
aims <- c(
  xml = "at most 2, memory at most 6 times the message", json = "at most 2",
  csv = "at most 1.5"
)
for (form in names(bare)) {
  file <- file.path(folder, paste0("m.", form))
  count <- format(rows, scientific = FALSE)
  runs <- lapply(1:3, function(i) {
    rbind(
      measure(decode, c(file, count)), measure(bare[[form]], c(file, count))
    )
  })
  middle <- apply(simplify2array(runs), c(1, 2), stats::median)
  size <- file.size(file) / 2^20
  cat(
    sprintf(
      paste0(
        "%-5s %4.0f MB  decoded %6.2f s, bare parse %6.2f s, ratio %.2f; ",
        "peak %.0f ",
        "MB over an idle process (%.1f times the message), the bare ",
        "parse's %.0f MB   aim: %s\n"
      ),
      form, size, middle[1, 1], middle[2, 1], middle[1, 1] / middle[2, 1],
      middle[1, 2] - idle, (middle[1, 2] - idle) / size, middle[2, 2] - idle,
      aims[[form]]
    )
  )
}
