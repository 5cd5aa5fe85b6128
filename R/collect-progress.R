# Progress of a run.

# A function of the tally and queue that shows the progress; `total` pages were
# planned, and more may come.
progress_make <- function(run, total) {
  began <- now_seconds()
  show <- progress_line(parent.frame())
  function(tally, queue) {
    show(function(width) progress_text(run, tally, queue, total, began, width))
  }
}

# "quay: 12 of 180 pages, 2,880 rows, 88 of 90 per minute, about 2 minutes left,
# waits for the limit"
progress_text <- function(run, tally, queue, total, began, width = Inf) {
  spent <- now_seconds() - began
  planned <- max(total, tally$pages + (queue_left(queue) > 0))
  # no earlier than the limits allow; a failed request is done too
  over <- tally$pages + nrow(tally$failed)
  left <- max(
    spent / max(1, over) * max(0, planned - over),
    limit_least_seconds(
      planned, run$source$limits, request_weight(run$query$dataset)
    ) -
      spent
  )
  parts <- c(
    paste0(
      run$source$source, ": ", thousands(tally$pages), " of ",
      thousands(planned), " pages"
    ),
    paste(
      thousands(tally$new + tally$changed + tally$unchanged),
      query_noun(run$query)
    ),
    progress_rate(run, tally, spent),
    if (tally$pages > 0) paste("about", format_seconds(left), "left"),
    if (nrow(tally$failed)) paste(thousands(nrow(tally$failed)), "failed"),
    if (!is.null(queue$waits_for)) paste("waits for", queue$waits_for)
  )
  text <- paste(parts, collapse = ", ")
  shortened(text, width)
}

# The rate of requests, including failed and repeated ones, against the limit
# that is nearest.
progress_rate <- function(run, tally, spent) {
  limits <- Filter(function(limit) is.null(limit$quota), run$source$limits)
  if (!length(limits) || spent < 1) {
    return(NULL)
  }
  slowest <- limits[[
    which.min(vapply(limits, function(limit) limit$count / limit$seconds, 0))
  ]]
  requests <- tally$pages + nrow(tally$failed) + tally$retried
  rate <- min(
    slowest$count, requests / max(spent, slowest$seconds) * slowest$seconds
  )
  paste0(thousands(round(rate)), " of ", slowest$words)
}
