# How fast a command starts, against a bare R process that loads one small package, and against one
# that loads the database's packages, which `list` cannot be without; the middle of eleven runs each,
# in turn.
run <- function(command, arguments) {
  system.time(processx::run(command, arguments, error_on_status = FALSE,
    env = c("current", R_LIBS = paste(.libPaths(), collapse = ":"))))[[3]]
}
archive <- tempfile(fileext = ".sqlite")
vetusta::archive_import(vetusta::archive_open(archive),
  system.file("extdata", "keld-days.csv", package = "vetusta"), symbol = "KELD", interval = "1 day")
load <- function(package) run("Rscript", c("-e", sprintf("loadNamespace('%s')", package)))
times <- t(vapply(1:11, function(i) {
  c(bare = load("cli"), database = load("RSQLite"), version = run("./vetusta", "version"),
    list = run("./vetusta", c("list", "--archive", archive)))
}, numeric(4)))
middle <- apply(times, 2, median)
cat(sprintf(paste0("Rscript -e 'loadNamespace(\"cli\")'      %.2f s\n",
  "Rscript -e 'loadNamespace(\"RSQLite\")'  %.2f s\n",
  "vetusta version   %.2f s, ratio to the first %.2f   aim: at most 2\n",
  "vetusta list      %.2f s, ratio to the first %.2f, to the second %.2f   aim: at most 1.5\n"),
  middle[["bare"]], middle[["database"]], middle[["version"]],
  middle[["version"]] / middle[["bare"]], middle[["list"]], middle[["list"]] / middle[["bare"]],
  middle[["list"]] / middle[["database"]]))
