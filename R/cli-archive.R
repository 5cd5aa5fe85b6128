cli_archive_command <- function(arguments) {
  options <- cli_arguments(arguments, "archive",
    "check|compact|backup FILE|restore FILE|rescue FILE",
    c(cli_place_options(), cli_json_option()),
    c("vetusta archive check", "vetusta archive backup ~/copies/archive-2026-11-26.sqlite",
      "vetusta archive restore ~/copies/archive-2026-11-26.sqlite",
      "vetusta archive rescue saved.sqlite"), least = 1, most = 2)
  task <- options$words[1]
  work <- cli_archive_tasks[[task]]
  if (is.null(work)) {
    cli_usage_error("\"", task, "\" cannot be done with an archive; ",
      suggest_word(task, names(cli_archive_tasks)))
  }
  takes_file <- task %in% c("backup", "restore", "rescue")
  if (takes_file && length(options$words) < 2) cli_usage_error(task, " needs the path of a file")
  if (!takes_file && length(options$words) > 1) {
    cli_usage_error("\"", options$words[2], "\" is one word too many")
  }
  work(options, options$archive %||% cli_desk(options)$archive)
}

cli_archive_tasks <- list(
  check = function(options, path) {
    archive <- archive_open(path, create = FALSE, read_only = TRUE)
    on.exit(archive_close(archive))
    found <- archive_check(archive)
    if (options$json) cli_print_json(as.data.frame(found))
    else cli_print_table(found, "all in it is whole")
    if (nrow(found)) {
      if (any(found$lost)) cli_say("\nto do: bring back a copy with `vetusta archive restore`, or ",
        "save what can be read with `vetusta archive rescue NEW.sqlite`")
      return(1L)
    }
    0L
  },
  compact = function(options, path) {
    size <- archive_compact(archive_open(path, create = FALSE))
    cli_say(basename(path), ": ", format_bytes(size[["before"]]), ", and now ",
      format_bytes(size[["after"]]))
  },
  backup = function(options, path) {
    file <- options$words[2]
    archive_backup(archive_open(path, create = FALSE, read_only = TRUE), file)
    cli_say("wrote ", file, ": ", format_bytes(file.size(file)))
  },
  restore = function(options, path) {
    there <- file.exists(path)
    archive_restore(options$words[2], path)
    cli_say("restored ", path, " from ", options$words[2],
      if (there) paste0("; what was there is ", basename(path), ".before"))
  },
  rescue = function(options, path) {
    done <- archive_rescue(path, options$words[2])
    if (options$json) cli_print_json(as.data.frame(done)) else cli_print_table(done)
    cli_say("\nwrote ", options$words[2], "; to use it: vetusta archive restore ", options$words[2])
    if (any(done$lost > 0)) 1L else 0L
  }
)
