# Collectors, the requests they claim, and which of them have ended.

# A collector gives signs of life. One on another machine without a sign for its
# lease has ended, and its requests are free. For one on this machine the system
# tells whether it runs; without a sign for longer than a collector waits it has
# ended too, because another program may have its process number.
lease_seconds <- 90
claim_minutes <- 16

collector_lease <- function() {
  given <- suppressWarnings(as.numeric(Sys.getenv("VETUSTA_LEASE_SECONDS")))
  if (is.finite(given) && given >= 1) given else lease_seconds
}

# `doing` describes its work. A sign is repeated after a sixth of the lease. The
# collectors: host, process, began, started, seen, lease, doing, requests
# (claimed), gone.
store_beat <- function(store, doing) {
  me <- store_process(store)
  due <- now_seconds() >= (store$beaten %||% -Inf) + collector_lease() / 6
  if (!due && identical(store$doing, doing)) {
    return(invisible())
  }
  now <- store_now(store)
  sql_do(
    store,
    "INSERT INTO collectors (host, process, began, started, seen, lease,
    doing) VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT (host, process,
    began) DO UPDATE SET
      seen = excluded.seen, lease = excluded.lease, doing = excluded.doing",
    list(me$host, me$process, me$began, now, now, collector_lease(), doing)
  )
  store$beaten <- now_seconds()
  store$doing <- doing
  invisible()
}

store_collectors <- function(store) {
  collectors <- sql_get(
    store,
    "SELECT p.host, p.process, p.began, p.started, p.seen, p.lease, p.doing,
    (SELECT count(*) FROM claims c WHERE c.done IS NULL AND c.host = p.host
      AND c.process = p.process AND c.began = p.began) AS calls
    FROM collectors p ORDER BY p.started, p.host, p.process"
  )
  process <- store_process(store)
  now <- store_now(store)
  collectors$gone <- vapply(
    seq_len(nrow(collectors)),
    function(i) {
      collector <- as.list(collectors[i, ])
      !is_same_process(collector, process) &&
        !claim_holds(c(collector, since = -Inf), process, now)
    },
    TRUE
  )
  collectors
}

# How many running collectors that do the same began before this one.
store_rank <- function(store, doing) {
  collectors <- store_collectors(store)
  same <- collectors[!collectors$gone & collectors$doing == doing, ]
  me <- store_process(store)
  own <- same$host == me$host & same$process == me$process
  if (any(own)) which(own)[1] - 1 else nrow(same)
}

# The claim of a request: "ours", "taken" by another process, or "done" by one
# since an instant. With `place`, a list of source, dataset and keys, a request
# of ours has the attribute `covered`: whether any of the keys is covered.
store_claim <- function(store, request, since, place = NULL) {
  self <- store_process(store)
  statement <- if (is.null(place)) claim_statement else claim_covered_statement
  if (!is.null(place)) place$keys <- json_array(place$keys)
  repeat {
    now <- store_now(store)
    # usually nobody has claimed it
    free <- sql_get(
      store, statement,
      c(list(request, self$host, self$process, self$began, now), unname(place)),
      often = TRUE
    )
    if (length(free[[1]])) {
      return(
        if (is.null(place)) {
          "ours"
        } else {
          structure("ours", covered = free$covered > 0)
        }
      )
    }
    claim <- sql_get(
      store,
      "SELECT c.host, c.process, c.began, c.since, c.done, p.seen, p.lease
      FROM claims c LEFT JOIN collectors p ON p.host = c.host AND p.process =
      c.process
        AND p.began = c.began WHERE c.request = ?",
      list(request)
    )
    # it was released meanwhile
    if (!nrow(claim)) next
    if (!is.na(claim$done) && claim$done >= since) {
      return("done")
    }
    if (is.na(claim$done) && claim_holds(claim, self, now)) {
      return("taken")
    }
    # taken over, unless another process did so meanwhile
    taken <- sql_get(
      store,
      "UPDATE claims SET host = ?, process = ?, began = ?, since = ?,
      done = NULL WHERE request = ? AND host = ? AND process = ? AND since = ?
      AND
        coalesce(done, 0) = ? RETURNING 1 AS ours",
      list(
        self$host, self$process, self$began, now, request, claim$host,
        claim$process, claim$since, if (is.na(claim$done)) 0 else claim$done
      )
    )
    if (nrow(taken)) {
      return("ours")
    }
  }
}

claim_statement <- "INSERT INTO claims (request, host, process, began,
  since) VALUES (?, ?, ?, ?, ?) ON CONFLICT (request) DO NOTHING RETURNING 1 AS
  ours"
claim_covered_statement <- paste0(
  claim_statement,
  ", (SELECT count(*) FROM coverage
  WHERE source = ? AND dataset = ? AND key IN @texts) AS covered"
)

# Whether a claim belongs to another collector that is still running.
claim_holds <- function(claim, process, now) {
  if (is_same_process(claim, process)) {
    return(FALSE)
  }
  seen <- max(claim$since, claim$seen, na.rm = TRUE)
  if (claim$host == process$host) {
    return(process_lives(claim) && seen >= now - 60 * claim_minutes)
  }
  lease <- if (is.null(claim$lease) || is.na(claim$lease)) {
    lease_seconds
  } else {
    claim$lease
  }
  seen >= now - lease
}

# A process is identified by its machine, number and start, because numbers are
# reused. Where machines have one name, as containers may, VETUSTA_HOST
# distinguishes them.
this_process <- function() {
  host <- Sys.getenv("VETUSTA_HOST")
  list(
    host = if (nzchar(host)) host else Sys.info()[["nodename"]],
    process = Sys.getpid(),
    began = whole_micros(as.numeric(ps::ps_create_time(ps::ps_handle())))
  )
}

# The same, looked up once for each process that has the store open.
store_process <- function(store) {
  if (is.null(store$process) || store$process$process != Sys.getpid()) {
    store$process <- this_process()
  }
  store$process
}

is_same_process <- function(a, b) {
  a$host == b$host && a$process == b$process && abs(a$began - b$began) < 2
}

# Whether a process of this machine is running. One that has ended exists until
# its parent collects it, which in a container may be never.
process_lives <- function(claim) {
  tryCatch(
    {
      handle <- ps::ps_handle(as.integer(claim$process))
      abs(as.numeric(ps::ps_create_time(handle)) - claim$began) < 2 &&
        !ps::ps_status(handle) %in% c("zombie", "dead")
    },
    error = function(e) FALSE
  )
}

store_claim_done <- function(store, request) {
  sql_do(
    store, "UPDATE claims SET done = ? WHERE request = ?",
    list(store_now(store), request)
  )
}

# At the end of a run its claims are released, and its collector entry is
# removed if it has no other; old entries are removed too.
store_claims_release <- function(store, requests) {
  self <- store_process(store)
  mine <- list(self$host, self$process)
  sql_do(
    store,
    "DELETE FROM claims WHERE host = ? AND process = ? AND done IS NULL
    AND request IN @texts",
    c(mine, json_array(requests))
  )
  sql_do(
    store, "DELETE FROM claims WHERE done < ?",
    list(store_now(store) - 7 * 86400)
  )
  sql_do(
    store,
    "DELETE FROM collectors WHERE (host = ? AND process = ? AND NOT EXISTS
    (SELECT 1 FROM claims c WHERE c.host = collectors.host AND c.process =
    collectors.process
      AND c.done IS NULL)) OR seen < ?",
    c(mine, store_now(store) - 7 * 86400)
  )
  store$beaten <- NULL
  invisible()
}

store_in_use <- function(store) {
  claims <- sql_get(
    store,
    "SELECT DISTINCT c.host, c.process, c.began, max(c.since) AS since,
    max(p.seen) AS seen, max(p.lease) AS lease FROM claims c LEFT JOIN
    collectors p
      ON p.host = c.host AND p.process = c.process AND p.began = c.began
    WHERE c.done IS NULL GROUP BY c.host, c.process, c.began"
  )
  process <- store_process(store)
  now <- store_now(store)
  any(
    vapply(
      seq_len(nrow(claims)),
      function(i) claim_holds(as.list(claims[i, ]), process, now), TRUE
    )
  )
}
