# How far a want has come: what is held of it.

# Up to where all of a want is held: the earliest end of the stretches that begin with it, or when
# what has no window was asked for last; NA where a part of it is not held at all.
want_complete <- function(want, archive) UseMethod("want_complete")

#' @export
want_complete.vetusta_want_bars <- function(want, archive) {
  keys <- bars_cover_keys(want$symbols, want)
  covered <- covered_now(archive, want, keys)
  covered$key <- rep(want$symbols, length.out = length(keys))[match(covered$key, keys)]
  complete_until(covered, want$symbols, want$from)
}

#' @export
want_complete.vetusta_want_rows <- function(want, archive) {
  if (is.null(want$from)) {
    return(asked_since(want, archive))
  }
  covered <- covered_now(archive, want)
  keys <- unique(vapply(want_calls(want, NULL)$keys, key_text, ""))
  complete_until(covered, keys, want$from)
}

#' @export
want_complete.vetusta_want_observations <- function(want, archive) asked_since(want, archive)

complete_until <- function(covered, keys, from) {
  from <- as.numeric(from)
  first <- covered[covered$start <= from & covered$end > from, ]
  ends <- tapply(first$end, factor(first$key, unique(keys)), max)
  if (anyNA(ends)) NA_real_ else min(ends)
}

asked_since <- function(want, archive) {
  asked <- store_notes(archive, "asked", want$source$source, want$dataset$name)
  starts <- want_starts(want, archive)
  at <- asked$at[match(starts, asked$key)]
  at[starts %in% open_of(archive, want)$start] <- NA
  if (!length(at) || anyNA(at)) NA_real_ else min(at)
}

want_starts <- function(want, archive) {
  calls <- want_calls(want, archive)
  vapply(seq_len(nrow(calls)), function(i) want_chain(want, calls[i, ])$start, "")
}
