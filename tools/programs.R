# Programs that tests use, from Debian if this process may install packages: an
# office program, cron, PostgreSQL, ClickHouse, ZooKeeper, a browser, the tools
# of R Markdown. Otherwise the tests that need them are skipped and counted.
has <- function(program) nzchar(Sys.which(program))
wanted <- c(
  if (!has("soffice")) "libreoffice-calc", if (!has("cron")) "cron",
  if (!length(Sys.glob("/usr/lib/postgresql/*/bin/initdb"))) "postgresql",
  if (!has("clickhouse-server")) "clickhouse-server",
  if (!has("java") || !file.exists("/usr/share/java/zookeeper.jar")) {
    "zookeeper"
  },
  if (!has("chromium")) "chromium", if (!has("pandoc")) "pandoc"
)
quiet <- function(command, arguments) {
  identical(
    as.integer(
      suppressWarnings(
        system2(command, arguments, stdout = FALSE, stderr = FALSE)
      )
    ),
    0L
  )
}
root <- identical(Sys.info()[["effective_user"]], "root")
may_install <- has("apt-get") &&
    (root || (has("sudo") && quiet("sudo", c("-n", "true"))))
if (!length(wanted)) quit(status = 0, save = "no")
if (!may_install) {
  cat(
    "[setup] not installed, so that their tests are skipped: ",
    paste(wanted, collapse = ", "), "\n", sep = "", file = stderr()
  )
  quit(status = 0, save = "no")
}
cat(
  "[setup] installing programs for tests from Debian: ",
  paste(wanted, collapse = ", "), "\n", sep = "", file = stderr()
)
apt <- function(...) {
  command <- c(
    if (!root) "sudo", "env", "DEBIAN_FRONTEND=noninteractive", "apt-get",
    "-q", "-y", ...
  )
  quiet(command[1], command[-1])
}
done <- apt("install", "--no-install-recommends", wanted) ||
    (apt("update") && apt("install", "--no-install-recommends", wanted))
if (!done) {
  cat(
    "[setup] they could not be installed; their tests are skipped\n",
    file = stderr()
  )
}
