# The source card of a run, kept beside what it brought.

# The card of a source in force, as it was used: a text by its hash, and a note
# of each change.
collect_card_note <- function(archive, source) {
  card <- source$card
  if (is.null(card)) {
    return(invisible())
  }
  known <- store_notes(archive, "card since", source$source, "")
  if (nrow(known) &&
    identical(known$value[which.max(known$at)], card$hash)) {
    return(invisible())
  }
  now <- store_now(archive)
  store_note(
    archive, "card", source$source, "", card$hash, card$text,
    at = now
  )
  store_note(
    archive, "card since", source$source, "", format_instant(utc(now)),
    card$hash,
    at = now
  )
}
