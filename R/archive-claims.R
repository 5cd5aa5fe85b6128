# Which collector of this archive is at which call, so that several that are asked for the same do it once: a call that another one
# is at is left to it. A claim of a process that is no more counts for nothing; nor does an old one while no call at all was made for longer than a
# collector waits, since another program may have the number of a process that was killed.
claim_minutes <- 16

# "ours", "taken" by another process, or "done" by one since the instant `since`.
archive_claim <- function(archive, call, since, now = as.numeric(Sys.time())) {
  own <- archive_process(archive)
  in_transaction(archive, function() {
    found <- archive_get(archive, "SELECT host, process, began, since, done FROM claims WHERE call = ?", list(call))
    if (nrow(found) && !is.na(found$done) && found$done >= since) {
      return("done")
    }
    if (nrow(found) && is.na(found$done) && !is_same_process(found, own) && process_lives(found, own) && !is_old_claim(archive, found$since, now)) {
      return("taken")
    }
    archive_do(archive, "INSERT INTO claims (call, host, process, began, since) VALUES (?, ?, ?, ?, ?) ON CONFLICT (call) DO UPDATE SET host = excluded.host,
      process = excluded.process, began = excluded.began, since = excluded.since, done = NULL", list(call, own$host, own$process, own$began, now))
    "ours"
  })
}

# A process is told by its machine, its number and when it began: a number is given again.
this_process <- function() list(host = Sys.info()[["nodename"]], process = Sys.getpid(), began = as.numeric(ps::ps_create_time(ps::ps_handle())))

# The same, looked up once for each process that has the archive open.
archive_process <- function(archive) {
  if (is.null(archive$process) || archive$process$process != Sys.getpid()) archive$process <- this_process()
  archive$process
}

is_same_process <- function(a, b) a$host == b$host && a$process == b$process && abs(a$began - b$began) < 2

is_old_claim <- function(archive, since, now) {
  newest <- archive_get(archive, "SELECT asked FROM journal ORDER BY id DESC LIMIT 1")$asked
  max(since, newest) < now - 60 * claim_minutes
}

archive_claim_done <- function(archive, call) archive_do(archive, "UPDATE claims SET done = ? WHERE call = ?", list(as.numeric(Sys.time()), call))

# At the end of a run nothing of it is claimed any more; what was done long ago is forgotten.
archive_claims_release <- function(archive) {
  in_transaction(archive, function() {
    own <- archive_process(archive)
    archive_do(archive, "DELETE FROM claims WHERE host = ? AND process = ? AND done IS NULL", list(own$host, own$process))
    archive_do(archive, "DELETE FROM claims WHERE done < ?", list(as.numeric(Sys.time()) - 7 * 86400))
  })
}

# Whether a process is still at work. One that has ended is there until somebody asks for its end, which in a container may be never. Of another machine nothing
# can be seen: there the time since its claim tells.
process_lives <- function(claim, own = this_process()) {
  if (claim$host != own$host) {
    return(TRUE)
  }
  tryCatch({
    handle <- ps::ps_handle(as.integer(claim$process))
    abs(as.numeric(ps::ps_create_time(handle)) - claim$began) < 2 && !ps::ps_status(handle) %in% c("zombie", "dead")
  }, error = function(e) FALSE)
}
