# Growth of times with the size of the input: each task at two sizes in one run.
# The figure is the ratio of the times divided by the ratio of the sizes: 1 is
# linear; 4 is quadratic if the sizes differ by four. Run with `make bench` from
# the project's folder.
library(vetusta)
inside <- asNamespace("vetusta")

seconds <- function(work, times = 3) {
  stats::median(vapply(
    seq_len(times),
    function(i) {
      gc(FALSE)
      system.time(work(), gcFirst = FALSE)[[1]]
    },
    0
  ))
}
grow <- function(what, small, prepare, work, by = 4, times = 3) {
  at <- vapply(
    c(small, small * by),
    function(n) {
      input <- prepare(n)
      seconds(function() work(input), times)
    },
    0
  )
  cat(
    sprintf(
      "%-58s %9s: %7.2f s   %9s: %7.2f s   %.2f of linear\n", what,
      format(small, big.mark = ",", scientific = FALSE), at[1],
      format(small * by, big.mark = ",", scientific = FALSE), at[2],
      at[2] / at[1] / by
    )
  )
}

archive_with <- function(n) {
  archive <- archive_open(tempfile(fileext = ".sqlite"))
  symbols <- sprintf("S%06d", seq_len(n))
  ends <- as.numeric(as.POSIXct(c("2020-01-01", "2027-01-01"), tz = "UTC"))
  inside$store_put(
    archive,
    list(
      source = "quay",
      dataset = "bars",
      covered = data.frame(
        key = inside$bars_cover_key(symbols, "P1D", "regular"),
        start = ends[1],
        end = ends[2]
      )
    )
  )
  list(archive = archive, symbols = symbols)
}
quay <- source_card("quay")
plan <- function(to) {
  function(x) {
    plan_requests(
      query_bars(
        quay,
        x$symbols,
        "1 day",
        from = "2026-01-05",
        to = to,
        now = as.POSIXct("2027-06-01", tz = "UTC")
      ),
      x$archive
    )
  }
}
grow(
  "plan: symbols that are up to date", 3000, archive_with, plan("2026-12-01")
)
grow(
  "plan: symbols that are some days behind", 1000, archive_with,
  plan("2027-01-08")
)

codes <- function(n) {
  paste0(
    paste0(
      "<m:Structure xmlns:m='m' xmlns:s='s' xmlns:c='c'><s:Codelist ",
      "id='CL' agencyID='A' ", "version='1.0'>"
    ),
    paste0(
      "<s:Code id='C", seq_len(n), "'><c:Name xml:lang='en'>Code ", seq_len(n),
      "</c:Name>",
      ifelse(
        seq_len(n) > 10,
        paste0(
          "<s:Parent><Ref id='C", pmax(1, seq_len(n) %/% 3), "'/></s:Parent>"
        ),
        ""
      ),
      "</s:Code>", collapse = ""
    ),
    "</s:Codelist></m:Structure>"
  )
}
grow(
  "a code list read", 5000, function(n) charToRaw(codes(n)),
  function(x) inside$decode_structure(x, "bench")
)
list_of <- function(n) {
  list(
    id = paste0("C", seq_len(n)),
    parent = ifelse(
      seq_len(n) > 10, paste0("C", pmax(1, seq_len(n) %/% 3)), NA
    ),
    labels = list(en = paste("Code", seq_len(n)))
  )
}
grow(
  "codes in the order of their tree", 20000, list_of,
  function(x) inside$dataset_codes(x, NULL, "en", Inf)
)
grow(
  "codes below each other, one in the other", 5000,
  function(n) {
    list(
      id = paste0("C", seq_len(n)),
      parent = c(NA, paste0("C", seq_len(n - 1)))
    )
  },
  function(x) inside$code_tree(x)
)
grow(
  "attributes of groups put to their series", 5000,
  function(n) {
    list(
      series = data.frame(A = paste0("a", seq_len(n)), B = "b"),
      groups = data.frame(A = paste0("a", seq_len(n)), UNIT = "T")
    )
  },
  function(x) {
    inside$with_groups(
      x$series, rep(1L, nrow(x$series)), x$groups, rep(1L, nrow(x$groups)),
      c("A", "B")
    )
  }
)

series <- function(n) {
  data.frame(
    series = rep(sprintf("s%06d", seq_len(n)), each = 20),
    time = as.POSIXct("2026-01-01", tz = "UTC") + 86400 * c(0:9, 12:21),
    value = as.double(seq_len(20 * n))
  )
}
grow(
  "wide align of series", 5000, series,
  function(x) series_align(x, grid = as.Date("2026-01-01") + 0:20)
)
grow("gaps of series", 2000, series, function(x) series_gaps(x))
grow(
  "filling of series", 2000, series, function(x) series_fill(x, rule = "linear")
)
grow("faults of series", 2000, series, function(x) series_check(x))
grow(
  "changes of series", 5000, series,
  function(x) series_change(x, "mean", window = "5 days")
)

wide <- function(n) {
  file <- tempfile(fileext = ".csv")
  data.table::fwrite(
    c(
      list(time = format(as.Date("2026-01-01") + 0:9)),
      stats::setNames(rep(list(stats::runif(10)), n), paste0("c", seq_len(n)))
    ),
    file
  )
  file
}
grow("a file of so many columns", 5000, wide, function(file) {
  inside$read_series_file(file, list(time_as = "rfc3339"), "UTC", NULL)
})

observations <- function(n) {
  archive <- archive_open(tempfile(fileext = ".sqlite"))
  items <- paste0("I", seq_len(n))
  series <- data.frame(
    key = paste0("M.", items),
    frequency = "M",
    dimensions = sprintf("{\"FREQ\":\"M\",\"ITEM\":\"%s\"}", items)
  )
  rows <- list(
    series = rep(seq_len(n), each = 24),
    time = .POSIXct(86400 * rep(20000 + 30 * 0:23, n), "UTC"),
    value = as.double(seq_len(24 * n))
  )
  inside$store_put(
    archive,
    list(
      source = "office",
      dataset = "FLOW",
      shape = "observations",
      rows = inside$parcel_series(series, rows)
    )
  )
  archive
}
grow(
  "one series read of a dataset of so many", 1000, observations,
  function(archive) {
    archive_observations(archive, "office", "FLOW", ITEM = "I7")
  },
  times = 5
)
