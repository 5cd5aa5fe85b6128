# Start-up time of commands, against a bare R process that loads one small
# package, and against one that loads the database packages, which `list` needs
# if the archive has changed since the last listing; the median of eleven runs
# each, in turn.
run <- function(command, arguments, kept = caches[[1]]) {
  system.time(
    processx::run(
      command,
      arguments,
      error_on_status = FALSE,
      env = c(
        "current",
        R_LIBS = paste(.libPaths(), collapse = ":"),
        R_USER_CACHE_DIR = kept
      )
    )
  )[[3]]
}
caches <- tempfile(c("cache", rep("none", 11)))
archive <- tempfile(fileext = ".sqlite")
vetusta::archive_import(
  vetusta::archive_open(archive),
  system.file("extdata", "keld-days.csv", package = "vetusta"),
  symbol = "KELD", interval = "1 day"
)
load <- function(package) {
  run("Rscript", c("-e", sprintf("loadNamespace('%s')", package)))
}
# files changed within two seconds are not cached
Sys.sleep(3)
invisible(run("./vetusta", c("list", "--archive", archive)))
times <- t(vapply(
  1:11,
  function(i) {
    c(
      bare = load("cli"),
      database = load("RSQLite"),
      version = run("./vetusta", "version"),
      first = run(
        "./vetusta", c("list", "--archive", archive), caches[[i + 1]]
      ),
      list = run("./vetusta", c("list", "--archive", archive))
    )
  },
  numeric(5)
))
middle <- apply(times, 2, median)
ratio <- function(of, to) middle[[of]] / middle[[to]]
cat(
  sprintf(
    paste0(
      "Rscript -e 'loadNamespace(\"cli\")'      %.2f s\n",
      "Rscript -e 'loadNamespace(\"RSQLite\")'  %.2f s\n",
      "vetusta version   %.2f s, ratio to the first %.2f   aim: at most 2\n",
      "vetusta list      %.2f s, ratio to the first %.2f   aim: at most 1.5\n",
      "  of an archive that has changed   %.2f s, ratio to the first ",
      "%.2f, to the second %.2f\n"
    ),
    middle[["bare"]], middle[["database"]], middle[["version"]],
    ratio("version", "bare"), middle[["list"]], ratio("list", "bare"),
    middle[["first"]], ratio("first", "bare"), ratio("first", "database")
  )
)
