# How fast a command starts, against a bare R process that loads one small package; the middle of
# eleven runs each, in turn.
run <- function(command,
  arguments) {
  system.time(processx::run(command, arguments, error_on_status = FALSE,
    env = c("current", R_LIBS = paste(.libPaths(), collapse = ":"))))[[3]]
}
archive <- tempfile(fileext = ".sqlite")
vetusta::archive_import(vetusta::archive_open(archive),
  system.file("extdata", "keld-days.csv", package = "vetusta"), symbol = "KELD", interval = "1 day")
times <- t(vapply(1:11, function(i) {
  c(bare = run("Rscript", c("-e", "loadNamespace('cli')")), version = run("./vetusta", "version"),
    list = run("./vetusta", c("list", "--archive", archive)))
}, numeric(3)))
middle <- apply(times, 2, median)
cat(sprintf(paste0("Rscript -e 'loadNamespace(\"cli\")'  %.2f s\nvetusta version ",
  paste0("                   %.2f s, ratio %.2f   aim: at most 2\nvetusta list ",
    "                      %.2f s, ratio %.2f   aim: at most 2\n")),
  middle[1], middle[2], middle[2] / middle[1], middle[3], middle[3] / middle[1]))
