# Names of series in figures: what all of them share is said once, in the title
# or subtitle, and what differs names lines and panels.

# list(names, shared): names without the parts, separated by ", ", with which
# all of them begin or end.
shared_parts <- function(names) {
  names <- as.character(names)
  parts <- strsplit(unique(names), ", ", fixed = TRUE)
  if (length(parts) < 2) {
    return(list(names = names, shared = ""))
  }
  least <- min(lengths(parts))
  alike <- function(take) {
    count <- 0
    while (count < least - 1 &&
      length(unique(vapply(parts, take, "", count + 1))) == 1) {
      count <- count + 1
    }
    count
  }
  front <- alike(function(part, i) part[i])
  back <- min(
    alike(function(part, i) part[length(part) + 1 - i]), least - 1 - front
  )
  one <- parts[[1]]
  shared <- one[c(seq_len(front), seq_len(back) + length(one) - back)]
  kept <- vapply(parts, function(part) {
    paste(part[(front + 1):(length(part) - back)], collapse = ", ")
  }, "")
  list(
    names = kept[match(names, unique(names))],
    shared = paste(shared, collapse = ", ")
  )
}

# Title and first part of the subtitle: `heading` is what the series measure, as
# the title of their dataset, and what else they share.
figure_heads <- function(names, shared, heading, most = 5) {
  names <- unique(as.character(names))
  if (is.null(heading)) {
    return(list(
      title = if (nzchar(shared)) shared else figure_title(names, most),
      before = ""
    ))
  }
  shared <- paste(c(heading[-1], shared[nzchar(shared)]), collapse = ", ")
  heading <- paste0(
    toupper(substr(heading[1], 1, 1)), substring(heading[1], 2)
  )
  if (length(names) == 1 && nchar(names) + nchar(heading) > 60) {
    return(list(title = heading, before = paste0(names, "; ")))
  }
  if (length(names) == 1) {
    return(list(title = paste0(names, ": ", lower_first(heading)), before = ""))
  }
  list(
    title = heading,
    before = if (nzchar(shared)) paste0(shared, "; ") else ""
  )
}

check_heading <- function(heading) {
  if (!is.null(heading)) {
    check_text(heading, "heading", "figure", several = TRUE)
  }
}
