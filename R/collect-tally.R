# The counts of a run so far: a plain value that each step returns changed.

tally_make <- function() {
  list(
    pages = 0,
    new = 0,
    changed = 0,
    unchanged = 0,
    gone = 0,
    doubled = 0,
    rejected = 0,
    retried = 0,
    cut = 0,
    empty = character(),
    # symbols with rows, as names of an environment, because there may be many
    came = new.env(parent = emptyenv()),
    failed_keys = list(),
    largest = 0,
    failed = data.frame(
      symbol = character(), what = character(), todo = character(),
      outcome = character()
    ),
    # consecutive useless answers, failed requests, and requests without an
    # answer
    in_a_row = list(vain = 0, stumbled = 0, unanswered = 0)
  )
}

# Records symbols with rows.
tally_came <- function(tally, symbols) {
  for (symbol in symbols) assign(symbol, TRUE, envir = tally$came)
}

tally_without <- function(tally, symbols) {
  symbols[!vapply(symbols, exists, TRUE, envir = tally$came, inherits = FALSE)]
}

tally_counts <- function(tally, counts) {
  for (name in names(counts)) tally[[name]] <- tally[[name]] + counts[[name]]
  tally
}

# Counts a stored page.
tally_page <- function(tally, counts, page) {
  tally <- tally_counts(tally, counts)
  tally$rejected <- tally$rejected + length(unique(page$rejected$row))
  tally$largest <- max(tally$largest, page$items)
  tally$pages <- tally$pages + 1
  tally$in_a_row[c("vain", "stumbled")] <- 0
  tally
}

tally_again <- function(tally) {
  tally$retried <- tally$retried + 1
  tally$in_a_row$vain <- tally$in_a_row$vain + 1
  tally
}

tally_row <- function(tally, name, by = 1) {
  tally$in_a_row[[name]] <- tally$in_a_row[[name]] + by
  tally
}

tally_failed <- function(tally, names, what, todo, outcome, keys = NULL) {
  n <- length(names)
  tally$failed_keys <- c(tally$failed_keys, keys)
  tally$failed <- rbind(
    tally$failed,
    data.frame(
      symbol = names, what = rep(what, n), todo = rep(todo, n),
      outcome = rep(outcome, n)
    )
  )
  tally
}
