cli_calendar_command <- function(arguments) {
  options <- cli_arguments(
    arguments, "calendar", "[list|show NAME|times NAME]",
    c(
      list(
        cli_option(
          "year",
          "show: the year whose closed and half days are listed [this year]",
          metavar = "YEAR"
        ),
        cli_option("interval", "[1 day]", default = "1 day"),
        cli_session_option()
      ),
      cli_window_options(), cli_result_options()
    ),
    c(
      "vetusta calendar show quay --year 2026",
      paste0(
        "vetusta calendar times quay --interval \"1 hour\" --from ",
        "2026-03-19 --to 2026-03-23"
      )
    ),
    most = 2
  )
  task <- if (length(options$words)) options$words[1] else "list"
  if (!task %in% c("list", "show", "times")) {
    cli_usage_error(
      "\"", task, "\" cannot be done with calendars; ",
      suggest_word(task, c("list", "show", "times"))
    )
  }
  if (task == "list") {
    names <- sub(
      "[.]yml$", "", list.files(system.file("calendars", package = "vetusta"))
    )
    rows <- data.frame(
      calendar = names,
      title = vapply(names, function(name) source_calendar(name)$title, ""),
      zone = vapply(names, function(name) source_calendar(name)$zone, "")
    )
    return(cli_put(rows, options, "calendar"))
  }
  if (length(options$words) != 2) {
    cli_usage_error(task, " needs the name or file of a calendar")
  }
  calendar <- source_calendar(options$words[2])
  session <- if (options$session == "all") {
    NULL
  } else if (options$session == "regular") {
    main_session(calendar)
  } else {
    options$session
  }
  if (task == "times") {
    times <- calendar_times(
      calendar, options$interval, cli_needs(options, "from"),
      cli_needs(options, "to"), session
    )
    return(
      cli_put(
        data.frame(
          time = times,
          local = format(times, "%Y-%m-%d %H:%M", tz = calendar$zone)
        ),
        options, "time"
      )
    )
  }
  year <- cli_number(options, "year", 1) %||%
    (as.POSIXlt(now_time())$year + 1900)
  if (year != round(year) || year < 1000 || year > 9999) {
    cli_usage_error("--year must be a year of four digits, as 2026")
  }
  rows <- calendar_exceptions(calendar, year)
  if (options$json || !is.null(options$file)) {
    return(cli_put(rows, options, "day"))
  }
  print(calendar)
  cat(
    "\n", year, ": ",
    length(
      calendar_days(calendar, paste0(year, "-01-01"), paste0(year, "-12-31"))
    ),
    " open days\n",
    sep = ""
  )
  cli_print_table(
    rows, "no closed or half day falls on a weekday of the calendar"
  )
}

# Holidays and half days of a year that fall on the calendar's weekdays.
calendar_exceptions <- function(calendar, year) {
  part <- function(entries, what) {
    days <- moved_days(entries, seq(year - 1, year + 1), calendar$weekdays)
    frame <- data.frame(
      day = do.call(c, c(list(as.Date(character())), days)),
      what = rep(what, sum(lengths(days))),
      name = rep(vapply(entries, `[[`, "", "name"), lengths(days))
    )
    frame[
      as.POSIXlt(frame$day)$year + 1900 == year &
        ((as.numeric(frame$day) + 3) %% 7 + 1) %in% calendar$weekdays,
    ]
  }
  rows <- rbind(
    part(calendar$closed, "closed"), part(calendar$half_days, "half day")
  )
  rows$weekday <- weekday_names[(as.numeric(rows$day) + 3) %% 7 + 1]
  rows[order(rows$day), c("day", "weekday", "what", "name")]
}
