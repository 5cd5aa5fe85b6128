# Counts what one page passes through from the answer to the archive: calls of
# the package's functions, distinct functions and files, and changes between
# rooms (docs/architecture.md). Operators such as %||% are counted separately.
# For a refresh without new data it counts everything.
#
#   Rscript tools/trace.R    (with the package installed)
#
# Adds a line to every function of the package that records its name.
suppressPackageStartupMessages(library(vetusta))
package <- asNamespace("vetusta")

# The file in which each function is assigned.
files <- setdiff(list.files("R", "[.]R$", full.names = TRUE), "R/RcppExports.R")
place <- unlist(lapply(files, function(file) {
  assigned <- Filter(
    function(line) {
      is.call(line) && identical(line[[1]], as.name("<-")) && is.name(line[[2]])
    },
    as.list(parse(file, keep.source = FALSE))
  )
  names <- vapply(assigned, function(line) as.character(line[[2]]), "")
  stats::setNames(rep(basename(file), length(names)), names)
}))
rooms <- c(
  cli = "shell", desk = "shell", page = "shell", figure = "output",
  report = "output", export = "output", query = "collection",
  query = "collection", plan = "collection", collect = "collection",
  archive = "archive", store = "archive", wire = "wire", decode = "wire",
  source = "source", standin = "stand-ins"
)
room_of <- function(file) {
  room <- rooms[sub("-.*", "", sub("[.]R$", "", file))]
  ifelse(is.na(room), "core", room)
}

# A long vector would be copied with every name, so there are many short ones.
seen <- new.env()
trace_forget <- function() {
  seen$full <- list()
  seen$short <- character()
}
trace_seen <- function(name) {
  seen$short <- c(seen$short, name)
  if (length(seen$short) == 500) {
    seen$full[[length(seen$full) + 1]] <- seen$short
    seen$short <- character()
  }
}
trace_forget()

noted <- function(f, name) {
  body(f) <- call("{", call("trace_seen", name), body(f))
  f
}
methods <- package$.__S3MethodsTable__.
for (name in intersect(names(place), ls(package, all.names = TRUE))) {
  f <- get(name, package)
  if (!is.function(f) || is.primitive(f)) next
  unlockBinding(name, package)
  assign(name, noted(f, name), package)
  if (exists(name, methods, inherits = FALSE)) {
    assign(name, get(name, package), methods)
  }
}

traced <- function(work) {
  trace_forget()
  force(work)
  c(unlist(seen$full), seen$short)
}

counted <- function(what, names) {
  operator <- startsWith(names, "%")
  operators <- sum(operator)
  names <- names[!operator]
  file <- place[names]
  room <- room_of(file)
  data.frame(
    what = what,
    calls = length(names),
    operators = operators,
    functions = length(unique(names)),
    files = length(unique(file)),
    rooms_changed = sum(room[-1] != room[-length(room)])
  )
}

# One page: from its creation to the creation of the next one; the median page.
of_one_page <- function(what, names) {
  at <- which(names == "page_make")
  parts <- Map(function(from, to) names[from:(to - 1)], at[-length(at)], at[-1])
  sizes <- lengths(parts)
  counted(what, parts[[order(sizes)[(length(sizes) + 1) %/% 2]]])
}

services <- processx::process$new(
  "Rscript",
  c(
    "--no-init-file", "-e", "vetusta::cli_main()", "services", "--port", "0",
    "--seconds", "200"
  ),
  stdout = "|",
  env = c("current", R_LIBS = paste(.libPaths(), collapse = ":"))
)
root <- NULL
while (is.null(root)) {
  services$poll_io(500)
  line <- services$read_output_lines()
  found <- regmatches(
    line, regexpr("https?://[a-z0-9.]+:[0-9]+(?=/quay)", line, perl = TRUE)
  )
  if (length(found)) root <- found[1]
}
do.call(Sys.setenv, as.list(package$standin_keys))

folder <- tempfile("trace")
desk <- desk_make(
  folder,
  cards = c("quay", "basin"),
  urls = list(quay = paste0(root, "/quay"), basin = paste0(root, "/basin"))
)
archive <- archive_open(file.path(folder, "archive.sqlite"))

quay <- desk_source(desk, "quay")
bars <- plan_requests(
  query_bars(quay, "KELD", "1 minute", from = "2026-03-12", to = "2026-03-26"),
  archive
)
result <- of_one_page(
  "a page of bars", traced(collect_run(bars, archive, progress = FALSE))
)

basin <- desk_source(desk, "basin")
statistics <- plan_requests(
  query_observations(basin, "LOCK_TRAFFIC", CARGO = "GRAIN", archive = archive),
  archive
)
result <- rbind(
  result,
  of_one_page(
    "a page of a statistic",
    traced(collect_run(statistics, archive, progress = FALSE))
  )
)
archive_close(archive)

writeLines(
  c(
    readLines(file.path(folder, "desk.yml")), "track:", "  prices:",
    "    source: quay", "    dataset: bars", "    symbols: [KELD]",
    "    interval: 1 minute", "    from: 2026-03-12", "    to: 2026-03-26"
  ),
  file.path(folder, "desk.yml")
)
invisible(desk_refresh(desk_open(folder)))
result <- rbind(
  result,
  counted(
    "a refresh with nothing to do", traced(desk_refresh(desk_open(folder)))
  )
)

code <- unlist(lapply(files, function(file) {
  vapply(
    parse(file, keep.source = FALSE),
    function(part) {
      nchar(paste(deparse(part, width.cutoff = 500), collapse = "\n"))
    },
    1L
  )
}))
print(result, row.names = FALSE)
cat(
  "\ncharacters of R code, without comments, laid out alike:",
  format(sum(code), big.mark = ","), "\n"
)
services$kill()
unlink(folder, recursive = TRUE)
