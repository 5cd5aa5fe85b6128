# Instants as text.

# An instant as RFC 3339 text in UTC, with fractions of a second only if there
# are any.
format_instant <- function(x) {
  x <- as.numeric(x)
  if (all(is.na(x) | (x > -62167219200 & x < 253402300799))) {
    return(format_instants_cpp(x))
  }
  # years with more than four digits
  ifelse(
    is.finite(x), paste0(format(utc(floor(x)), "%Y-%m-%dT%H:%M:%S"), "Z"),
    NA_character_
  )
}

# The same in a zone's local time, with its offset.
format_in_zone <- function(x, zone) {
  if (zone == "UTC") {
    return(format_instant(x))
  }
  seconds <- as.numeric(x)
  offset <- rep(0, length(seconds))
  known <- is.finite(seconds)
  offset[known] <- zone_offset(seconds[known], zone)
  minutes <- abs(round(offset / 60))
  shown <- sprintf(
    "%s%02d:%02d", ifelse(offset < 0, "-", "+"), as.integer(minutes %/% 60),
    as.integer(minutes %% 60)
  )
  text <- format_instant(seconds + offset)
  ifelse(is.na(text), NA_character_, paste0(sub("Z$", "", text), shown))
}
