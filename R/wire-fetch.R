# One request that is waited for, with retries: for tokens, structures and jobs.

# `request` makes the signed request for each attempt, because a credential may
# change. `counter` counts requests within the source's limits, see
# limit_counter(), `secrets` returns texts to redact, and `stumbled` is called
# with the reason before a retry. The result is an answer that a retry would not
# change; no answer, or a wait longer than `most_wait`, is an error. `line` and
# `rest` are the connection and the way to wait, where other runs proceed
# meanwhile.
fetch_patiently <- function(request, patience = wire_bounds$stall,
                            counter = limit_counter(list()),
                            stumbled = function(what, answer) NULL,
                            most_wait = 900, tries = 5,
                            secrets = function() character(), line = NULL,
                            rest = NULL) {
  for (attempt in seq_len(tries)) {
    while ((pause <- counter$take()) > 0) wait_within(pause, most_wait, rest)
    sent <- request()
    answer <- fetch_once(sent, patience, secrets, line, rest)
    counter$answered(attr(pause, "token"), answer$waited)
    again <- !is.null(answer$reason) || judge_status(answer$status) == "again"
    if (!again || attempt == tries || is_for_good(answer$reason)) break
    stumbled(answer$reason %||% paste("HTTP", answer$status), answer)
    wait_within(
      retry_after(answer$headers %||% list()) %|na|% retry_pause(attempt),
      most_wait, rest
    )
  }
  if (!is.null(answer$reason)) {
    vetusta_stop(
      "network",
      paste0("No answer from ", origin_of(sent$url), ": ", answer$reason, "."),
      where = origin_of(sent$url),
      todo = "check whether the service runs and the URL in the card is right",
      reason = answer$reason
    )
  }
  answer
}

wait_within <- function(seconds, most, rest = NULL) {
  if (seconds > most) {
    vetusta_stop(
      "limit",
      paste0(
        "The next request may be sent only in ", format_seconds(seconds), "."
      ),
      todo = paste0(
        "run it again after ",
        format_instant(ceiling(as.numeric(Sys.time()) + seconds))
      ),
      seconds = seconds
    )
  }
  rest_for(seconds, rest)
}

# Waits for some seconds; `rest(seconds)` may return earlier.
rest_for <- function(seconds, rest = NULL) {
  if (is.null(rest)) {
    return(Sys.sleep(seconds))
  }
  until <- as.numeric(Sys.time()) + seconds
  while ((left <- until - as.numeric(Sys.time())) > 0) rest(left)
}

# A response, or a list with the `reason` why there is none.
fetch_once <- function(request, patience = wire_bounds$stall,
                       secrets = function() character(), line = NULL,
                       rest = NULL) {
  if (is.null(line)) {
    line <- wire_line()
    on.exit(line_close(line))
  }
  if (is.null(rest)) rest <- function(seconds) line_run(line, seconds)
  result <- NULL
  line_start(
    line,
    request,
    done = function(response) result <<- response,
    failed = function(reason) result <<- list(reason = reason),
    patience = patience,
    secrets = secrets
  )
  while (is.null(result)) rest(1)
  result
}
