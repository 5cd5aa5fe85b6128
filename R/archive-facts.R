# What an archive knows of a dataset as a whole, and hands on with its tables: zone, calendar and
# delay of its source, the title, and of each column its type and unit.

dataset_facts <- function(archive, source, dataset) {
  found <- store_structure(archive, source, paste0("facts:", dataset))
  if (is.null(found)) list() else unserialize(found$body)
}

# Facts are written where they are others than those that are there.
dataset_facts_put <- function(archive, source, dataset, facts) {
  facts <- facts[!vapply(facts, is.null, TRUE)]
  old <- dataset_facts(archive, source, dataset)
  new <- utils::modifyList(old, facts)
  if (!identical(old, new)) {
    store_structure_put(archive, source, paste0("facts:", dataset), NA, NA, serialize(new, NULL))
  }
  invisible(new)
}

# A table with the facts of the dataset that it is of; bars have the interval of their series.
with_dataset_facts <- function(table, archive, held) {
  facts <- dataset_facts(archive, held$source[1], held$dataset[1])
  if (startsWith(held$frequency[1], "P")) facts$interval <- time_interval(held$frequency[1])
  facts$source <- paste0(held$source[1], "/", held$dataset[1])
  with_facts(table, facts)
}

# A table as it was known at an instant. The store has left out what came later; what states no
# instant counts from the end of its time.
known_then <- function(table, at) {
  if (!is.finite(at) || !nrow(table)) {
    return(table)
  }
  series <- as_series(table)
  facts <- frame_facts(series)
  known <- row_times(series, own_ends(series, facts), facts)$known
  if (all(known <= at)) table else table[known <= at, , drop = FALSE]
}

# Where the times of a series end, by its shape: what a value without a stated instant counts from.
shape_ends <- list(
  bars = function(time, frequency, facts) {
    facts$interval <- time_interval(frequency)
    own_ends(with_shape(list_frame(list(time = time)), "vetusta_bars"), facts)
  },
  observations = function(time, frequency, facts) {
    if (identical(frequency, "I")) return(as.numeric(time))
    first <- epoch_days(floor(as.numeric(time) / 86400))
    code <- if (nzchar(frequency)) frequency else guess_frequency(first)
    period_ends(first, rep(code, length(first)), facts$zone)
  },
  facts = function(time, frequency, facts) as.numeric(time) + 86400
)

# The instants from which rows of series count, with those that state none.
rows_known <- function(archive, held, read) {
  known <- as.numeric(read$columns$known)
  for (i in unique(read$owner[is.na(known)])) {
    at <- which(read$owner == i & is.na(known))
    facts <- dataset_facts(archive, held$source[i], held$dataset[i])
    facts <- frame_facts(with_facts(list(), facts))
    end <- shape_ends[[held$shape[i]]](read$columns$time[at], held$frequency[i], facts)
    known[at] <- if (is.null(facts$delay)) end
    else as.numeric(shift_instant(utc(end), facts$delay, 1, facts$zone))
  }
  utc(known)
}
