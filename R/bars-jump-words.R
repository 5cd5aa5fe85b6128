# What is said of prices that jump as at a split.

# Jumps in words; NULL without any.
jump_words <- function(jumps) {
  if (!NROW(jumps)) {
    return(NULL)
  }
  shares <- ifelse(
    jumps$ratio >= 1, paste(format_ratio(jumps$ratio), "for 1"),
    paste("1 for", format_ratio(1 / jumps$ratio))
  )
  shown <- utils::head(
    paste0(
      jumps$symbol, " on ", trimws(format(jumps$day, "%e %B %Y")), " (",
      shares, ")"
    ), 3
  )
  paste0(
    "not adjusted: the price jumps as at a split, ",
    paste(shown, collapse = ", "),
    if (nrow(jumps) > 3) paste(" and", nrow(jumps) - 3, "more")
  )
}

format_ratio <- function(ratio) trimws(format(signif(ratio, 3)))
