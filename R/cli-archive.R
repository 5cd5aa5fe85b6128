cli_archive_command <- function(arguments) {
  options <- cli_arguments(
    arguments, "archive",
    paste0(
      "check|repair|compact|backup FILE|restore FILE|rescue FILE|copy FROM ",
      "TO|drop ID..."
    ),
    c(
      list(cli_option(
        "yes", "; drop and repair show what they would do without it"
      )),
      cli_place_options(), cli_json_option()
    ),
    c(
      "vetusta archive check",
      "vetusta archive repair",
      "vetusta archive backup ~/copies/archive-2026-11-26.sqlite",
      "vetusta archive restore ~/copies/archive-2026-11-26.sqlite",
      "vetusta archive rescue saved.sqlite",
      "vetusta archive copy archive.sqlite postgresql://keeper@host/market",
      "vetusta archive drop \"quay/bars/KELD@1 day\""
    ),
    least = 1
  )
  task <- options$words[1]
  work <- cli_archive_tasks[[task]]
  if (is.null(work)) {
    cli_usage_error(
      "\"", task, "\" cannot be done with an archive; ",
      suggest_word(task, names(cli_archive_tasks))
    )
  }
  takes <- c(backup = 1, restore = 1, rescue = 1, copy = 2, drop = 1)[task]
  takes <- if (is.na(takes)) 0 else takes
  if (options$yes && !task %in% c("drop", "repair")) {
    cli_usage_error("--yes is for drop and repair")
  }
  if (length(options$words) - 1 < takes) {
    cli_usage_error(
      task,
      if (task == "drop") {
        " needs the series IDs, or SOURCE/DATASET"
      } else {
        " needs the place"
      },
      if (takes > 1) {
        "s of two archives: FROM TO"
      } else if (task != "drop") {
        " of a file"
      }
    )
  }
  if (length(options$words) - 1 > takes && task != "drop") {
    cli_usage_error("\"", options$words[takes + 2], "\" is an unexpected word")
  }
  work(options)
}

cli_archive_path <- function(options) {
  options$archive %||% cli_desk(options)$archive
}

cli_archive_tasks <- list(
  check = function(options) {
    archive <- cli_archive(options, read_only = TRUE)
    on.exit(archive_close(archive))
    findings <- archive_check(archive)
    if (options$json) {
      cli_print_json(as.data.frame(findings))
    } else {
      cli_print_table(findings, "no damage found")
    }
    if (nrow(findings)) {
      if (any(startsWith(findings$finding, "is not checked"))) {
        cli_say("\nto do: start the server, or wait, and check again")
      }
      if (any(findings$lost)) {
        cli_say(
          "\nto do: see with `vetusta archive repair` what can be put back; ",
          "else restore a backup with `vetusta archive restore`, or ",
          "save what can be read with `vetusta archive rescue NEW.sqlite`"
        )
      }
      return(1L)
    }
    0L
  },
  repair = function(options) {
    archive <- cli_archive(options, read_only = !options$yes)
    on.exit(archive_close(archive))
    desk <- cli_desk(options, needed = FALSE)
    names <- if (!is.null(desk)) desk_cards(desk)
    sources <- lapply(stats::setNames(nm = names), function(name) {
      tryCatch(
        desk_source(desk, name),
        vetusta_error_card = function(e) NULL
      )
    })
    repair <- collect_repair(
      archive, Filter(length, sources),
      dry = !options$yes, progress = !options$json
    )
    if (options$json) {
      cli_print_json(as.data.frame(repair))
    } else {
      cat(format(repair), sep = "\n")
    }
    if (!nrow(repair)) {
      return(0L)
    }
    if (!options$yes && any(repair$by != "nothing")) {
      cli_say(
        "\nnothing was changed yet; the same command with --yes keeps the ",
        "rows as they are in a file, and puts these in their place"
      )
    }
    if (all(repair$outcome %in% c("as before", "as the source has them"))) {
      0L
    } else {
      1L
    }
  },
  drop = function(options) {
    archive <- cli_archive(options)
    on.exit(archive_close(archive))
    what <- cli_ids(options$words[-1])
    gone <- archive_drop(archive, what, dry = !options$yes)
    if (options$json) {
      cli_print_json(as.data.frame(gone))
    } else {
      cli_print_table(gone)
    }
    if (!options$yes) {
      return(
        cli_say(
          "\nnothing was removed yet; the same command with --yes writes a ",
          "backup and removes them"
        )
      )
    }
    cli_say(
      "\ntaken out: ", thousands(nrow(gone)), " series or datasets, ",
      counted(sum(gone$rows), "row"),
      "\nto bring it back: vetusta archive restore ", attr(gone, "backup")
    )
  },
  compact = function(options) {
    archive <- cli_archive(options)
    size <- archive_compact(archive)
    cli_say(
      archive_label(archive$path), ": ", format_bytes(size[["before"]]),
      ", and now ", format_bytes(size[["after"]])
    )
  },
  backup = function(options) {
    file <- options$words[2]
    archive_backup(cli_archive(options, read_only = TRUE), file)
    cli_say("wrote ", file, ": ", format_bytes(file.size(file)))
  },
  restore = function(options) {
    path <- cli_archive_path(options)
    check_file_archive(path)
    there <- file.exists(path)
    archive_restore(options$words[2], path)
    cli_say(
      "restored ", path, " from ", options$words[2],
      if (there) paste0("; what was there is ", basename(path), ".before")
    )
  },
  rescue = function(options) {
    done <- archive_rescue(cli_archive_path(options), options$words[2])
    if (options$json) {
      cli_print_json(as.data.frame(done))
    } else {
      cli_print_table(done)
    }
    cli_say(
      "\nwrote ", options$words[2], "; to use it: vetusta archive restore ",
      options$words[2]
    )
    if (any(done$lost > 0)) 1L else 0L
  },
  copy = function(options) {
    places <- options$words[2:3]
    # a desk's secret is used for its archive's server
    desk <- cli_desk(options, needed = FALSE)
    password <- if (!is.null(desk)) desk_password(desk)
    moved <- archive_copy(
      places[1], places[2],
      progress = TRUE, password = password
    )
    if (options$json) {
      return(cli_print_json(as.data.frame(moved)))
    }
    cli_print_table(moved[moved$rows > 0, ])
    cli_say(
      "\ncopied ", database_named(places[1]), " to ",
      database_named(places[2]), "; no damage found"
    )
  }
)
