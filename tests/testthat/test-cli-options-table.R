# Every option of every command, read from the commands themselves.
option_table <- function() {
  commands <- setdiff(names(vetusta:::cli_commands), c("help", "version"))
  rows <- lapply(commands, function(command) {
    options <- NULL
    local_instead(
      "cli_arguments",
      function(arguments, command, words, options, ...) {
        stop(
          structure(
            class = c("options_read", "error", "condition"),
            list(message = "", call = NULL, options = options)
          )
        )
      }
    )
    options <- tryCatch(
      vetusta:::cli_command(command)(character()),
      options_read = function(e) e$options
    )
    if (!is.list(options)) return(NULL)
    options <- Filter(
      function(option) inherits(option, "OptionParserOption"), options
    )
    data.frame(
      command = rep(command, length(options)),
      option = vapply(
        options, function(option) sub("^--", "", option@long_flag), ""
      ),
      value = vapply(options, function(option) c(option@metavar, "")[1], ""),
      help = vapply(options, function(option) option@help, "")
    )
  })
  do.call(rbind, rows)
}

test_that("an option means the same in all commands that take it", {
  table <- option_table()
  expect_gt(length(unique(table$command)), 30)
  table <- unique(table[c("option", "value", "help", "command")])
  several <- split(table, table$option)
  several <- several[vapply(several, nrow, 1L) > 1]
  shared <- vetusta:::cli_shared
  for (option in names(several)) {
    uses <- several[[option]]
    meaning <- shared[[option]][2]
    alike <- if (is.null(meaning)) {
      length(unique(paste(uses$value, uses$help))) == 1
    } else {
      all(startsWith(uses$help, meaning)) && length(unique(uses$value)) == 1
    }
    expect_true(
      alike,
      label = paste0("--", option, " in ", paste(uses$command, collapse = ", "))
    )
  }
})
