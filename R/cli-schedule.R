cli_schedule <- function(arguments) {
  options <- cli_arguments(
    arguments, "schedule", "",
    list(
      cli_option(
        "install",
        "put the desk's lines into this user's crontab, and no others",
        flag = TRUE
      ),
      cli_option(
        "remove", "take the desk's lines out of it again",
        flag = TRUE
      ),
      cli_option("crontab", "print the lines", flag = TRUE),
      cli_option(
        "systemd",
        paste0(
          "units of systemd instead of a crontab, in this folder, as ",
          "~/.config/systemd/user"
        ),
        metavar = "FOLDER"
      ),
      cli_option("desk"), cli_option("json")
    ),
    c(
      "vetusta schedule", "vetusta schedule --install",
      "vetusta schedule --crontab",
      "vetusta schedule --install --systemd ~/.config/systemd/user"
    ),
    most = 0
  )
  if (options$install && options$remove) {
    cli_usage_error("--install and --remove contradict")
  }
  desk <- cli_desk(options)
  schedule <- desk_schedule(desk)
  if (options$crontab) {
    cat(desk_crontab(desk), sep = "\n")
    cat("\n")
    return(0L)
  }
  if (options$install || options$remove) {
    timers <- nrow(schedule) > 0
    if (options$install && !timers) {
      cli_usage_error("no query of the desk has times")
    }
    if (!is.null(options$systemd)) {
      return(cli_schedule_units(desk, options))
    }
    entries <- if (options$install) desk_crontab(desk)
    crontab_write(crontab_with(crontab_read(), desk, entries))
    return(
      cli_say(
        if (options$install) {
          paste0(
            "put ", counted(length(entries), "line"), " into the ",
            "crontab; the log is ", basename(desk$log %||% "refresh.log")
          )
        } else {
          "took the desk's lines out of the crontab"
        }
      )
    )
  }
  if (options$json) {
    cli_print_json(as.data.frame(schedule))
  } else {
    cat(
      format_schedule(schedule, if (isatty(stdout())) cli_width() else 80),
      sep = "\n"
    )
  }
}

cli_schedule_units <- function(desk, options) {
  folder <- path.expand(options$systemd)
  name <- paste0(desk_timer_name(desk), ".timer")
  if (options$remove) {
    unlink(
      file.path(folder, paste0(desk_timer_name(desk), c(".timer", ".service")))
    )
    return(
      cli_say(
        "took the desk's units out of ", folder,
        "\nto do: systemctl --user disable --now ", name,
        "; systemctl --user daemon-reload"
      )
    )
  }
  units <- desk_units(desk)
  dir.create(folder, recursive = TRUE, showWarnings = FALSE)
  for (file in names(units)) {
    write_lines_whole(units[[file]], file.path(folder, file), "desk")
  }
  cli_say(
    "wrote ", paste(names(units), collapse = " and "), " into ", folder,
    "\nto do: systemctl --user daemon-reload; systemctl --user enable --now ",
    name
  )
}
