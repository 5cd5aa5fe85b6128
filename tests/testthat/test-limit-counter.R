# Requests are counted when they are made, and the time of the next one follows
# from that.

# Counts how often a token is requested.
asked_book <- function() {
  book <- vetusta:::limit_memory()
  asked <- 0
  take <- book$take
  book$take <- function(...) {
    asked <<- asked + 1
    take(...)
  }
  book$asked <- function() asked
  book
}

test_that("an answered request counts from when it was made", {
  url <- start_scripted(
    function(n, request) json_answer(list(items = list(list(id = n))))
  )
  source <- source_card(
    write_card(
      url,
      c("request: /rows{?i}", "rows: /items", "columns: {id: /id}"),
      extra = c("limits: [1000 per minute]", "at_once: 3")
    )
  )
  archive <- new_archive()
  collect_run(
    plan_requests(query_rows(source, "rows", i = as.character(1:12)), archive),
    archive, progress = FALSE
  )
  taken <- vetusta:::sql_get(archive, "SELECT taken FROM tokens")$taken
  expect_length(taken, 12)
  expect_true(all(taken <= as.numeric(Sys.time())))
  # the same in memory
  book <- vetusta:::limit_memory()
  counter <- vetusta:::limit_counter(source$limits, book)
  token <- attr(counter$take(), "token")
  expect_gt(book$requests(0)$time, as.numeric(Sys.time()))
  counter$answered(token, 0.1)
  expect_lte(book$requests(0)$time, as.numeric(Sys.time()))
})

test_that("the first answers' times do not count as travel time", {
  book <- vetusta:::limit_memory()
  counter <- vetusta:::limit_counter(
    list(list(count = 1000, seconds = 20)), book
  )
  made <- function(seconds) {
    token <- attr(counter$take(), "token")
    before <- as.numeric(Sys.time())
    counter$answered(token, seconds)
    book$requests(-Inf)$time[token] - before
  }
  # no answer; then a service that wakes up
  expect_gte(made(NULL), 0)
  for (i in 1:9) expect_gte(made(5), 0)
  expect_gte(made(NULL), 0)
  # an answer is now known to take at least 4 s: half of that is given back
  expect_lt(made(4), -1.5)
  expect_gt(made(0.001), -0.01)
})

test_that("a failed request counts within the limit", {
  url <- start_scripted(function(n, request) {
    if (n == 1) {
      list(status = 503L, headers = list(), body = "")
    } else {
      json_answer(list(items = list(list(id = n))))
    }
  })
  book <- vetusta:::limit_memory()
  counter <- vetusta:::limit_counter(list(list(count = 50, seconds = 60)), book)
  request <- function() {
    list(url = paste0(url, "/x"), method = "GET", headers = list())
  }
  before <- as.numeric(Sys.time())
  expect_error_kind(
    vetusta:::fetch_patiently(
      function() {
        list(url = "http://127.0.0.1:1/x", method = "GET", headers = list())
      },
      counter = counter, tries = 1
    ),
    "network", "No answer"
  )
  answer <- vetusta:::fetch_patiently(request, counter = counter)
  expect_identical(answer$status, 200L)
  expect_length(book$requests(before)$time, 3)
})

test_that("the wait of a weighted limit", {
  limits <- list(vetusta:::read_limit("10 weight per 10 seconds"))
  requests <- data.frame(time = c(1, 2, 3), weight = c(4, 1, 4))
  wait <- function(weight) vetusta:::limit_wait(requests, limits, 5, weight)
  margin <- vetusta:::window_margin(10)
  expect_identical(wait(1), 0)
  expect_equal(wait(5), 6 + margin)
  expect_equal(wait(6), 7 + margin)
  expect_equal(wait(10), 8 + margin)
})

test_that("unevenly travelling requests never exceed a window", {
  # the service's count of requests with random travel times, on its own clock
  for (seed in 1:6) {
    set.seed(seed)
    clock <- 1e9
    count <- 5
    requests <- data.frame(id = numeric(), time = numeric(), weight = numeric())
    limits <- list(list(count = count, seconds = 1))
    book <- list(
      now = function() clock,
      take = function(windows, under_way, weight) {
        if (sum(requests$time > clock - windows[[1]]$seconds) >= count) {
          return(list())
        }
        requests[nrow(requests) + 1, ] <<-
          list(nrow(requests) + 1, clock + under_way, 1)
        list(id = nrow(requests))
      },
      made = function(id, at) requests$time[id] <<- at,
      requests = function(since) requests[requests$time > since, ],
      forget = function(before) NULL
    )
    counter <- vetusta:::limit_counter(limits, book)
    own <- environment(counter$take)
    longest <- c(0.002, 0.02, 0.3)[seed %% 3 + 1]
    way <- function() {
      if (stats::runif(1) < 0.5) 0.0001 else stats::runif(1, 0, longest)
    }
    under_way <- list()
    counted <- numeric()
    while (length(counted) < 300) {
      step <- stats::runif(1, 0, 0.01)
      clock <- clock + step
      own$none_from <- own$none_from - step
      own$none_until <- own$none_until - step
      back <- vapply(under_way, function(call) call$back <= clock, TRUE)
      for (call in under_way[back]) {
        counter$answered(call$token, call$back - call$sent)
      }
      under_way <- under_way[!back]
      if (length(under_way) < 4 && (wait <- counter$take()) == 0) {
        there <- clock + way()
        counted <- c(counted, there)
        under_way <- c(
          under_way,
          list(
            list(
              token = attr(wait, "token"), sent = clock, back = there + way()
            )
          )
        )
      }
    }
    counted <- sort(counted)
    least <- min(
      counted[-seq_len(count)] - counted[seq_len(length(counted) - count)]
    )
    expect_gt(least, 1)
    # no more is lost than the travel time
    expect_lt((counted[300] - counted[1]) / (299 / count), 1.05 + 2 * longest)
  }
})

test_that("slow answers do not slow down the requests", {
  # several collectors with one book, and a service that counts a request at
  # some part of its answer time, on its own clock
  for (seed in 1:24) {
    set.seed(seed)
    clock <- 1e9
    count <- sample(c(1, 4, 9), 1)
    slow <- stats::runif(1, 0.6, 5)
    uneven <- sample(c(0, 0.025), 1)
    part <- c(0, 0.5, 1)[seed %% 3 + 1]
    number <- sample(1:4, 1)
    # connections that were idle for some time are closed; to open one takes
    # time, which a collector waits for, but for no more than a second
    opens <- if (seed %% 2) 0 else stats::runif(1, 0.05, 1.5)
    keeps <- stats::runif(1, 0.1, 10)
    idle <- rep(list(numeric()), number)
    opening <- rep(list(NULL), number)
    # tokens had early, until they may be used
    held <- rep(list(NULL), number)
    tokens <- data.frame(id = numeric(), time = numeric(), weight = numeric())
    told <- rep(list(c(Inf, 0)), number)
    book <- list(
      now = function() clock,
      take = function(windows, under_way, weight) {
        if (sum(tokens$time > clock - windows[[1]]$seconds) >= count) {
          return(list())
        }
        tokens[nrow(tokens) + 1, ] <<-
          list(nrow(tokens) + 1, clock + under_way, 1)
        list(id = nrow(tokens), at = clock)
      },
      made = function(id, at) tokens$time[id] <<- at,
      requests = function(since) tokens[tokens$time > since, ],
      forget = function(before) NULL
    )
    limits <- list(list(count = count, seconds = 1))
    counters <- lapply(1:number, function(i) {
      book$travel <- function(own = NULL) {
        if (!is.null(own)) told[[i]] <<- own
        list(
          fastest = min(vapply(told, `[`, 0, 1)),
          answers = sum(vapply(told, `[`, 0, 2))
        )
      }
      vetusta:::limit_counter(limits, book)
    })
    # the collectors' clock is the book's
    counters <- lapply(counters, function(counter) {
      for (name in c("take", "sent", "answered")) {
        frame <- environment(counter[[name]])
      }
      assign("Sys.time", function() clock, envir = frame)
      counter
    })
    flying <- list()
    counted <- numeric()
    while (length(counted) < 60 * count) {
      clock <- clock + stats::runif(1, 0, 0.01)
      back <- vapply(flying, function(one) one$back <= clock, TRUE)
      for (one in flying[back]) {
        counters[[one$by]]$answered(one$token, one$waited)
        idle[[one$by]] <- c(idle[[one$by]], clock)
      }
      flying <- flying[!back]
      by <- sample.int(number, 1)
      if (!is.null(opening[[by]])) {
        if (opening[[by]]$until > clock) next
        counters[[by]]$sent(opening[[by]]$token, opening[[by]]$gone)
        opening[by] <- list(NULL)
      }
      # those whose connection was not waited for
      for (i in seq_along(flying)) {
        one <- flying[[i]]
        if (one$by == by && one$opens && one$left <= clock) {
          counters[[by]]$sent(one$token)
          flying[[i]]$opens <- FALSE
        }
      }
      if (is.null(held[[by]])) {
        wait <- counters[[by]]$take(if (seed %% 4 < 2) 0.05 else 0)
        if (wait > 0) next
        held[[by]] <- list(wait = wait, until = clock + attr(wait, "hold"))
      }
      if (held[[by]]$until <= clock) {
        wait <- held[[by]]$wait
        held[by] <- list(NULL)
        takes <- slow + stats::runif(1, 0, uneven)
        idle[[by]] <- idle[[by]][idle[[by]] > clock - keeps]
        later <- if (length(idle[[by]])) 0 else opens
        idle[[by]] <- head(idle[[by]], -1)
        patience <- counters[[by]]$waits_sent()
        if (patience > 0 && later == 0) {
          counters[[by]]$sent(attr(wait, "token"))
        } else if (patience > 0) {
          opening[[by]] <- list(
            until = clock + min(later, patience), token = attr(wait, "token"),
            gone = later <= patience
          )
        }
        counted <- c(counted, clock + later + part * takes)
        flying <- c(flying, list(list(
          by = by, token = attr(wait, "token"), waited = takes,
          left = clock + later, opens = patience > 0 && later > patience,
          back = clock + later + takes
        )))
      }
    }
    counted <- sort(counted)
    n <- length(counted)
    expect_gt(min(counted[-seq_len(count)] - counted[seq_len(n - count)]), 1)
    if (opens > 0) next
    # of the limit's own time, after the first answers
    late <- counted[counted > counted[1] + 2 * slow + 12 / count + 12]
    pace <- (length(late) - 1) / count / (max(late) - min(late))
    expect_gt(pace, 1 / 1.15)
  }
})

# A book and a counter of four requests a second on a clock of the test.
book_on <- function(now) {
  book <- vetusta:::limit_memory()
  book$now <- now
  assign("Sys.time", now, envir = environment(book$take))
  book
}

counter_on <- function(now, book) {
  counter <- vetusta:::limit_counter(list(list(count = 4, seconds = 1)), book)
  assign("Sys.time", now, envir = environment(counter$take))
  counter
}

test_that("a service that hangs is found to be slow, and asked no further", {
  clock <- 1e9
  book <- book_on(function() clock)
  counter <- counter_on(function() clock, book)
  # requests leave at once, or are not known to have left
  asked <- function(seconds, gone) {
    until <- clock + seconds
    tokens <- numeric()
    while (clock < until) {
      clock <<- clock + 0.01
      wait <- counter$take()
      if (wait > 0) next
      tokens <- c(tokens, attr(wait, "token"))
      if (counter$waits_sent() > 0) counter$sent(attr(wait, "token"), gone)
    }
    tokens
  }
  first <- asked(1.4, TRUE)
  expect_length(first, 4)
  expect_lt(counter$waits_sent(), 1)
  second <- asked(0.3, TRUE)
  expect_length(second, 4)
  expect_identical(counter$waits_sent(), 1)
  # without any answer none follows
  expect_length(asked(20, TRUE), 0)
  # the real answers count, and not the time without them
  for (token in first) counter$answered(token, 20)
  for (token in second) counter$answered(token, 20)
  expect_length(asked(5, TRUE), 4 * 5)
  # a fast answer, and all is as before
  counter$answered(max(book$requests(-Inf)$id), 0.02)
  expect_identical(counter$waits_sent(), 0)
})

test_that("a collector that takes no token tells of answers that stay away", {
  clock <- 1e9
  book <- book_on(function() clock)
  told <- rep(list(c(Inf, 0)), 4)
  counters <- lapply(1:4, function(i) {
    book$travel <- function(own = NULL) {
      if (!is.null(own)) told[[i]] <<- own
      list(
        fastest = min(vapply(told, `[`, 0, 1)),
        answers = sum(vapply(told, `[`, 0, 2))
      )
    }
    counter_on(function() clock, book)
  })
  for (counter in counters) {
    expect_identical(counter$watch(), Inf)
    counter$sent(attr(counter$take(), "token"))
    expect_equal(counter$watch(), 1.5)
  }
  clock <- clock + 1
  for (counter in counters) expect_equal(counter$watch(), 0.5)
  clock <- clock + 0.51
  for (counter in counters) counter$watch()
  clock <- clock + 0.06
  for (counter in counters) expect_identical(counter$watch(), Inf)
  for (counter in counters) expect_identical(counter$waits_sent(), 1)
  expect_true(all(book$requests(-Inf)$time == 1e9))
})

test_that("a connection that opens slowly is no sign of a slow service", {
  clock <- 1e9
  book <- book_on(function() clock)
  counter <- counter_on(function() clock, book)
  tokens <- vapply(1:4, function(i) attr(counter$take(), "token"), 0)
  for (token in tokens) counter$sent(token, FALSE)
  clock <- clock + 1.9
  expect_gt(as.numeric(counter$take()), 0)
  expect_lt(counter$waits_sent(), 1)
  # once they are known to have left, their answers can be late
  for (token in tokens) counter$sent(token, TRUE)
  clock <- clock + 1.4
  counter$take()
  expect_lt(counter$waits_sent(), 1)
  clock <- clock + 0.2
  counter$take()
  expect_identical(counter$waits_sent(), 1)
})

test_that("requests that waited for a connection are told to have left", {
  told <- data.frame(token = numeric(), gone = logical())
  url <- start_scripted(function(n, request) {
    json_answer(list(items = list(list(id = n))))
  })
  line <- vetusta:::wire_line()
  run <- list(
    line = line,
    counter = list(
      waits_sent = function() 1e-9,
      sent = function(token, gone = TRUE) {
        force(gone)
        told[nrow(told) + 1, ] <<- list(token, gone)
      }
    )
  )
  queue <- new.env()
  queue$leaving <- list()
  ended <- FALSE
  vetusta:::line_start(
    line, list(url = paste0(url, "/x"), method = "GET", headers = list()),
    done = function(response) ended <<- TRUE, failed = function(reason) NULL
  )
  vetusta:::collect_sent(run, queue, 7)
  while (!ended) {
    vetusta:::collect_sent(run, queue)
    vetusta:::line_run(line, 0.001)
  }
  vetusta:::collect_sent(run, queue)
  expect_length(queue$leaving, 0)
  expect_true(all(told$token == 7))
  # at once, or not at first and then once; never after its end
  expect_lte(sum(told$gone), 1)
  expect_identical(nrow(told), 1L + (!told$gone[1] && any(told$gone)))
})

# Takes the tokens of a quota by two connections, among earlier ones.
expect_whole_quota <- function(uri) {
  one <- archive_open(uri)
  other <- archive_open(uri)
  now <- as.numeric(Sys.time())
  set.seed(5)
  # before the quota's day, hours ago, and just now; of two sources
  taken <- now - c(5000, 3700, stats::runif(200, 0, 3600), 119:121)
  vetusta:::sql_append(one, "tokens", list(
    source = rep("quay", length(taken)), taken = taken,
    weight = rep(c(1, 2.5), length.out = length(taken))
  ))
  vetusta:::sql_append(one, "tokens", list(
    source = rep("other", 50), taken = now - 1:50, weight = rep(1, 50)
  ))
  inside <- taken > now - 3600
  weight <- rep(c(1, 2.5), length.out = length(taken))
  since <- now - 3600
  limits <- list(
    list(count = sum(inside) + 1110, weighs = FALSE, since = since)
  )
  got <- 0
  repeat {
    archive <- if (got %% 2) one else other
    if (!length(vetusta:::store_token_take(archive, "quay", limits, 1))) break
    got <- got + 1
  }
  expect_identical(got, 1110)
  expect_length(vetusta:::store_token_take(other, "quay", limits, 1), 0)
  # by weight
  limits <- list(
    list(count = sum(weight[inside]) + 1110 + 8, weighs = TRUE, since = since)
  )
  for (i in 1:2) {
    expect_length(vetusta:::store_token_take(one, "quay", limits, 1, 3)$id, 1)
  }
  expect_length(vetusta:::store_token_take(one, "quay", limits, 1, 3), 0)
  expect_length(vetusta:::store_token_take(other, "quay", limits, 1, 2)$id, 1)
  for (archive in list(one, other)) archive_close(archive)
}

test_that("a quota counts every token, whenever it was taken", {
  expect_whole_quota(tempfile(fileext = ".sqlite"))
})

test_that("a quota counts every token on a server", {
  server <- postgres_server(safe = TRUE)
  server$sql("CREATE DATABASE quota")
  expect_whole_quota(server$uri("quota"))
})

test_that("a token that took long is not used", {
  book <- vetusta:::limit_memory()
  take <- book$take
  slow <- 1.2
  book$take <- function(...) {
    token <- take(...)
    Sys.sleep(slow)
    slow <<- 0
    token
  }
  counter <- vetusta:::limit_counter(list(list(count = 2, seconds = 90)), book)
  expect_gt(as.numeric(counter$take()), 0)
  Sys.sleep(0.01)
  # it counts, so that one is left
  expect_identical(as.numeric(counter$take()), 0)
  expect_gt(as.numeric(counter$take()), 50)
})

test_that("a source that is no longer slow counts answers again", {
  book <- vetusta:::limit_memory()
  counter <- vetusta:::limit_counter(list(list(count = 9, seconds = 2)), book)
  tokens <- lapply(1:9, function(i) attr(counter$take(), "token"))
  for (token in tokens) counter$answered(token, 1.5)
  expect_identical(counter$waits_sent(), 1)
  # they were sent at least 1.5 s before
  times <- book$requests(-Inf)$time
  expect_true(all(times < as.numeric(Sys.time()) - 1.4))
  Sys.sleep(0.7)
  token <- attr(counter$take(), "token")
  other <- attr(counter$take(), "token")
  counter$sent(other)
  expect_lte(max(book$requests(-Inf)$time), as.numeric(Sys.time()) + 2)
  # it counts from when it has left, which is waited for
  counter$sent(token, {
    Sys.sleep(0.2)
    left <- as.numeric(Sys.time())
    TRUE
  })
  expect_gte(max(book$requests(-Inf)$time), left)
  expect_lte(max(book$requests(-Inf)$time), as.numeric(Sys.time()))
  counter$answered(token, 0.01)
  expect_identical(counter$waits_sent(), 0)
  # the one under way may be counted now or later
  expect_gt(max(book$requests(-Inf)$time), as.numeric(Sys.time()) + 1)
})

test_that("while there can be no token none is asked for", {
  book <- asked_book()
  counter <- vetusta:::limit_counter(
    list(list(count = 2, seconds = 3600)), book
  )
  tokens <- lapply(1:2, function(i) attr(counter$take(), "token"))
  for (token in tokens) counter$answered(token, 0.1)
  waits <- vapply(1:20, function(i) as.numeric(counter$take()), 0)
  expect_identical(book$asked(), 2)
  expect_true(all(waits > 3500 & waits < 3700))
  expect_false(is.unsorted(rev(waits)))
  # the same after the clock was set back
  own <- environment(counter$take)
  own$none_from <- own$none_from + 7200
  own$none_until <- own$none_until + 7200
  counter$take()
  expect_identical(book$asked(), 3)
})

test_that("a request in flight counts from its answer", {
  book <- asked_book()
  window <- 3600 + vetusta:::window_margin(3600)
  counter <- vetusta:::limit_counter(
    list(list(count = 1, seconds = 3600)), book
  )
  token <- attr(counter$take(), "token")
  before <- as.numeric(Sys.time())
  # it may be answered now
  expect_lte(as.numeric(counter$take()), window)
  Sys.sleep(0.05)
  counter$answered(token, 0.05)
  after <- as.numeric(Sys.time())
  wait <- as.numeric(counter$take()) + as.numeric(Sys.time())
  expect_gte(wait, before + 0.05 + window)
  expect_lte(wait, after + window + 0.05)
  expect_identical(book$asked(), 1)
})

test_that("the wait for other processes' requests is never too long", {
  set.seed(31)
  # an hour of a clock that the test moves in steps
  clock <- 1e9
  real <- function(limits, requests, weight) {
    vetusta:::limit_wait(requests, limits, clock, weight)
  }
  limits <- list(list(count = 5, seconds = 10), list(count = 12, seconds = 60))
  requests <- data.frame(id = numeric(), time = numeric(), weight = numeric())
  add <- function(time) {
    requests[nrow(requests) + 1, ] <<- list(nrow(requests) + 1, time, 1)
    nrow(requests)
  }
  book <- list(
    now = function() clock,
    take = function(windows, under_way, weight) {
      if (real(limits, requests, weight) > 0) {
        list()
      } else {
        list(id = add(clock + under_way))
      }
    },
    made = function(id, at) requests$time[id] <<- at,
    requests = function(since) requests[requests$time > since, ],
    forget = function(before) NULL
  )
  counter <- vetusta:::limit_counter(limits, book)
  own <- environment(counter$take)
  open <- numeric()
  late <- taken <- 0
  for (i in 1:3000) {
    step <- stats::runif(1, 0, 0.5)
    clock <- clock + step
    # the counter's own clock follows
    own$none_from <- own$none_from - step
    own$none_until <- own$none_until - step
    # another process makes requests too, which are answered sooner or later
    if (stats::runif(1) < 0.05 && real(limits, requests, 1) == 0) {
      add(clock - 0.001)
    }
    if (length(open) && stats::runif(1) < 0.5) {
      counter$answered(open[1], 0.2)
      open <- open[-1]
    }
    there <- real(limits, requests, 1) == 0
    wait <- counter$take()
    if (there && wait > 0.001) late <- late + 1
    if (wait == 0) {
      taken <- taken + 1
      open <- c(open, attr(wait, "token"))
    }
  }
  expect_identical(late, 0)
  expect_gt(taken, 100)
})

test_that("a token is known to all at once, and a crash does not forget it", {
  server <- postgres_server(safe = TRUE)
  server$sql("CREATE DATABASE tokens")
  archive <- archive_open(server$uri("tokens"))
  other <- archive_open(server$uri("tokens"))
  limits <- list(list(count = 12, seconds = 3600, weighs = FALSE))
  taken <- numeric()
  for (i in 1:10) {
    taken <- c(taken, vetusta:::store_token_take(archive, "quay", limits, 5)$id)
    expect_true(tail(taken, 1) %in% vetusta:::store_tokens(other, "quay")$id)
  }
  # the server ends without writing what it has in memory
  server$stop("immediate")
  server$start()
  after <- archive_open(server$uri("tokens"))
  expect_setequal(vetusta:::store_tokens(after, "quay")$id, taken)
  for (i in 1:2) {
    expect_length(vetusta:::store_token_take(after, "quay", limits, 5)$id, 1)
  }
  expect_length(vetusta:::store_token_take(after, "quay", limits, 5), 0)
  # what is told of a token later may be forgotten, which counts it longer
  vetusta:::store_token_made(after, taken[1], 0)
  expect_false(
    taken[1] %in% vetusta:::store_tokens(after, "quay", since = 100)$id
  )
  for (one in list(archive, other, after)) archive_close(one)
})
