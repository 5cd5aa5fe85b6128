# Questions on a terminal. Where input or output is not a terminal, a command
# never waits for an answer.

cli_can_ask <- function() {
  is_terminal(stdin()) && is_terminal(stdout())
}

# The line that a person types; an empty line means the usual answer. At the end
# of the input nothing was answered.
cli_question <- function(question, usual) {
  cat(question, " [", usual, "] ", sep = "", file = stderr())
  answer <- readLines(cli_typed(), n = 1, warn = FALSE)
  if (!length(answer)) cli_usage_error("no answer to: ", question)
  answer <- trimws(answer)
  if (nzchar(answer)) answer else usual
}

# One connection, because a second one would lose the lines that the first has
# read ahead.
cli_typed <- local({
  open <- NULL
  function() {
    if (is.null(open)) open <<- file("stdin", "r")
    open
  }
})
