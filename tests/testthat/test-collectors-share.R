# Several collectors that share the requests of a query: a model of the claims,
# the limit and the service on a clock of its own drives the real queue.

# One schedule: collectors with the requests of one query, answers of random
# length, one limit; perhaps one collector is killed. Returns the requests as
# they were sent.
model_schedule <- function(seed, mocked) {
  set.seed(seed)
  model <- new.env()
  model$clock <- 1e9
  number <- sample(2:4, 1)
  count <- sample(3:14, 1)
  at_once <- sample(1:3, 1)
  limit <- sample(c(2, 5, 100), 1)
  slowest <- sample(c(0.05, 0.4, 2), 1)
  lease <- 9
  killed <- if (stats::runif(1) < 0.3) sample.int(number, 1) else 0
  kill_at <- model$clock + stats::runif(1, 0, 3)
  keys <- sprintf("K%02d", seq_len(count))
  model$claims <- list()
  model$covered <- character()
  model$taken <- numeric()
  model$sent <- list(key = character(), time = numeric())
  alive <- rep(TRUE, number)
  dead_at <- rep(Inf, number)
  query <- structure(list(), class = "vetusta_query_model")
  requests <- data.frame(from = rep(0, count), to = 1)
  requests$symbols <- as.list(keys)
  run_of <- function(k) {
    line <- new.env()
    line$active <- 0L
    line$by <- k
    line$model <- model
    line$flying <- list()
    list(
      query = query, planned = TRUE, at_once = at_once, most_pages = Inf,
      number = k,
      most_wait = 900, started = model$clock, line = line,
      counter = list(
        take = function(...) {
          inside <- model$taken[model$taken > model$clock - 1.001]
          if (length(inside) < limit) {
            model$taken <- c(model$taken, model$clock)
            return(structure(0, token = 1, hold = 0))
          }
          sort(inside)[length(inside) - limit + 1] + 1.001 - model$clock
        },
        waits_sent = function() 0, watch = function() Inf
      ),
      sink = list(
        rank = function() k - 1,
        claim = function(name, since, keys = NULL) {
          has <- model$claims[[name]]
          held <- !is.null(has) && has$open && has$by != k &&
            model$clock < dead_at[has$by] + lease
          if (held) {
            return("taken")
          }
          model$claims[[name]] <- list(by = k, open = TRUE)
          structure("ours", covered = any(keys %in% model$covered))
        },
        covered = function(keys) {
          here <- keys[keys %in% model$covered]
          structure(
            list(key = here),
            class = "data.frame", row.names = seq_along(here)
          )
        },
        ending = function(name) name,
        ended = function(page) {
          for (name in page$claims) model$claims[[name]]$open <- FALSE
        },
        noted = function(...) NULL
      )
    )
  }
  runs <- lapply(seq_len(number), run_of)
  queues <- lapply(seq_len(number), function(k) vetusta:::queue_make(requests))
  for (k in seq_len(number)) vetusta:::collect_share(runs[[k]], queues[[k]])
  mocked$model <- model
  mocked$slowest <- slowest
  wake <- model$clock + stats::runif(number, 0, 0.2)
  steps <- 0
  repeat {
    if (killed > 0 && alive[killed] && model$clock >= kill_at) {
      alive[killed] <- FALSE
      dead_at[killed] <- model$clock
      wake[killed] <- Inf
    }
    work <- vapply(seq_len(number), function(k) {
      alive[k] && (vetusta:::queue_left(queues[[k]]) > 0 ||
        runs[[k]]$line$active > 0)
    }, TRUE)
    if (!any(work)) break
    steps <- steps + 1
    if (steps > 3000) stop("a stall: seed ", seed)
    wake[!work] <- Inf
    k <- which.min(wake)
    model$clock <- max(model$clock, wake[k]) + 1e-4
    run <- runs[[k]]
    # answers are stored, and their claims end
    back <- vapply(run$line$flying, function(x) x$back <= model$clock, TRUE)
    for (one in run$line$flying[back]) {
      model$covered <- c(model$covered, one$chain$key)
      model$claims[[one$chain$claim]]$open <- FALSE
    }
    run$line$flying <- run$line$flying[!back]
    run$line$active <- length(run$line$flying)
    pause <- vetusta:::collect_start(
      run, queues[[k]], list(pages = 0, in_a_row = list(vain = 0))
    )
    answers <- vapply(run$line$flying, `[[`, 0, "back")
    wake[k] <- min(model$clock + max(pause, 1e-3), answers)
  }
  list(
    sent = model$sent, keys = keys, limit = limit, slowest = slowest,
    killed = killed > 0 && is.finite(dead_at[killed]), number = number,
    covered = model$covered
  )
}

model_methods <- list(
  query_chain = function(query, planned, noted = NULL) {
    key <- planned$symbols[[1]]
    list(
      planned = planned, key = key, windowed = TRUE, start = key,
      resumed = FALSE, not_before = 0
    )
  },
  query_claim = function(query, chain) list(name = chain$key, shows = TRUE),
  query_rest = function(query, chain, covered) {
    if (NROW(covered(chain$key))) NULL else chain$planned
  },
  query_cover_keys = function(query, chain) chain$key,
  query_answered = function(query, requests, covered) {
    unlist(requests$symbols) %in% covered(unlist(requests$symbols))$key
  }
)

test_that("10,000 schedules have no stall, no doubled request, no overrun", {
  for (name in names(model_methods)) {
    registerS3method(
      name, "vetusta_query_model", model_methods[[name]],
      envir = asNamespace("vetusta")
    )
  }
  mocked <- new.env()
  local_instead("now_seconds", function() mocked$model$clock)
  local_instead("line_run", function(...) NULL)
  local_instead("send_chain", function(run, queue, chain, token = NULL) {
    model <- mocked$model
    model$sent <- list(
      key = c(model$sent$key, chain$key),
      time = c(model$sent$time, model$clock)
    )
    back <- model$clock + mocked$slowest * stats::runif(1, 0.5, 1)
    run$line$flying <- c(
      run$line$flying, list(list(chain = chain, back = back))
    )
    run$line$active <- length(run$line$flying)
  })
  schedules <- as.integer(Sys.getenv("VETUSTA_SCHEDULES", "10000"))
  wrong <- character()
  note <- function(...) wrong <<- c(wrong, paste0(...))
  for (seed in seq_len(schedules)) {
    out <- model_schedule(seed, mocked)
    doubled <- sum(duplicated(out$sent$key))
    if (!out$killed && doubled) note(seed, ": ", doubled, " doubled")
    # a killed collector had at most its requests in flight
    if (out$killed && doubled > 3) note(seed, ": ", doubled, " after a kill")
    if (!setequal(out$covered, out$keys)) note(seed, ": not complete")
    time <- out$sent$time
    n <- length(time)
    if (n > out$limit) {
      window <- time[-seq_len(out$limit)] - time[seq_len(n - out$limit)]
      if (min(window) < 1) note(seed, ": an overrun")
    }
    silence <- max(0, diff(time))
    longest <- max(out$slowest, 1.001) + 0.05
    if (!out$killed && silence > longest) note(seed, ": silence ", silence)
  }
  expect_identical(wrong, character())
})
