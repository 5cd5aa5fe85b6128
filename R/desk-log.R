# A log of unattended runs: lines with their instant, in a few rotating files.
# It contains no secret, because messages contain none.

log_bytes <- 1e6
log_files <- 5

log_write <- function(file, lines) {
  if (file.exists(file) && file.size(file) > log_bytes) log_rotate(file)
  stamp <- format_instant(floor(now_seconds()))
  # one write, so that lines of two processes do not mix
  cat(
    paste0(
      stamp, " ", unlist(strsplit(lines, "\n", fixed = TRUE)), "\n",
      collapse = ""
    ),
    file = file, append = TRUE
  )
}

# desk.log becomes desk.log.1, that desk.log.2, and so on; the last file is
# removed.
log_rotate <- function(file) {
  unlink(paste0(file, ".", log_files - 1))
  for (i in rev(seq_len(log_files - 2))) {
    old <- paste0(file, ".", i)
    if (file.exists(old)) file.rename(old, paste0(file, ".", i + 1))
  }
  file.rename(file, paste0(file, ".1"))
}

# Runs `work` with its messages in the desk's log; on a failure the desk's
# command is run.
refresh_logged <- function(desk, work) {
  file <- desk$log %||% file.path(desk$folder, "refresh.log")
  status <- 1L
  log_file <- tempfile("log")
  output <- file(log_file, "w+")
  sink(output)
  sink(output, type = "message")
  tryCatch(
    status <- work(),
    vetusta_usage = function(e) cli_say(conditionMessage(e)),
    error = function(e) cli_say(conditionMessage(e)),
    interrupt = function(e) {
      cli_say(
        "stopped; the pages received so far are stored, and the next run ",
        "continues"
      )
    },
    finally = {
      sink(type = "message")
      sink()
      close(output)
    }
  )
  lines <- readLines(log_file, warn = FALSE)
  unlink(log_file)
  lines <- lines[nzchar(lines)]
  log_write(
    file, c(if (length(lines)) lines, paste("ended with status", status))
  )
  word <- if (status == 0L) "on_success" else "on_failure"
  if (!is.null(desk[[word]])) refresh_command(desk, word, lines, file)
  status
}

# The command of the user's choice, with the messages in its environment.
refresh_command <- function(desk, word, lines, file) {
  message <- tryCatch(
    {
      run <- processx::run(
        "/bin/sh",
        c("-c", desk[[word]]),
        wd = desk$folder,
        error_on_status = FALSE,
        timeout = 120,
        env = c(
          "current",
          VETUSTA_DESK = desk$folder,
          VETUSTA_LOG = file,
          VETUSTA_MESSAGE = paste(utils::tail(lines, 40), collapse = "\n")
        )
      )
      if (run$status != 0) paste(word, "ended with status", run$status)
    },
    error = function(e) {
      paste(word, "could not be run:", conditionMessage(e))
    }
  )
  if (length(message)) log_write(file, message)
}
