# Which collector of this archive is at which call, so that several that are asked for the same do it once: a call that another one
# is at is left to it. A claim of a process that is no more counts for nothing; nor does an old one while no call at all was made for longer than a
# collector waits, since another program may have the number of a process that was killed.
claim_minutes <- 16

# "ours", "taken" by another process, or "done" by one since the instant `since`.
archive_claim <- function(archive, call, since, now = as.numeric(Sys.time())) {
  in_transaction(archive, function() {
    found <- archive_get(archive, "SELECT process, since, done FROM claims WHERE call = ?", list(call))
    if (nrow(found) && !is.na(found$done) && found$done >= since) {
      return("done")
    }
    if (nrow(found) && is.na(found$done) && found$process != Sys.getpid() && process_lives(found$process) && !is_old_claim(archive, found$since, now)) {
      return("taken")
    }
    archive_do(archive, "INSERT INTO claims (call, process, since) VALUES (?, ?, ?)
      ON CONFLICT (call) DO UPDATE SET process = excluded.process, since = excluded.since, done = NULL", list(call, Sys.getpid(), now))
    "ours"
  })
}

is_old_claim <- function(archive, since, now) {
  newest <- archive_get(archive, "SELECT asked FROM journal ORDER BY id DESC LIMIT 1")$asked
  max(since, newest) < now - 60 * claim_minutes
}

archive_claim_done <- function(archive, call) archive_do(archive, "UPDATE claims SET done = ? WHERE call = ?", list(as.numeric(Sys.time()), call))

# At the end of a run nothing of it is claimed any more; what was done long ago is forgotten.
archive_claims_release <- function(archive) {
  in_transaction(archive, function() {
    archive_do(archive, "DELETE FROM claims WHERE process = ? AND done IS NULL", list(Sys.getpid()))
    archive_do(archive, "DELETE FROM claims WHERE done < ?", list(as.numeric(Sys.time()) - 7 * 86400))
  })
}

# Signal 0 asks whether a process is there.
process_lives <- function(process) isTRUE(tools::pskill(process, 0))
