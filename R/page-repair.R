# Repairs that are tried on the page, and the trace of a value. Nothing is
# stored.

browse_repairs <- c(
  "no" = "", "splits" = "splits", "splits and dividends" = "all",
  "spikes left out" = "spikes"
)

browse_repaired <- function(table, place, source, zone, how) {
  if (how == "spikes") {
    return(browse_without_spikes(table, zone))
  }
  if (!is_bars(table)) {
    attr(table, "repaired") <- "splits and dividends are of bars"
    return(table)
  }
  actions <- browse_actions(place, source)
  if (is.null(actions)) {
    attr(table, "repaired") <- paste("the archive has no actions of", source)
    return(table)
  }
  done <- without_notes(bars_adjust(table, actions, how, zone = zone))
  applied <- attr(done, "applied")
  attr(done, "repaired") <- paste0(
    counted(nrow(applied), "action"), " applied",
    if (nrow(applied)) {
      paste0(": ", paste(
        utils::head(paste(applied$symbol, applied$ex_day, applied$kind), 4),
        collapse = "; "
      ))
    }
  )
  done
}

# Values that the next one takes back become missing; a fill may follow.
browse_without_spikes <- function(table, zone) {
  series <- as_series(table)
  off <- lapply(names(watch_defaults), function(name) FALSE)
  rules <- stats::setNames(off, names(watch_defaults))
  rules$spike <- NULL
  found <- without_notes(series_watch(series, rules = rules, zone = zone))
  hit <- paste(series_names_of(series), start_times(series)) %in%
    paste(found$series, as.numeric(found$first))
  for (name in c(value_column(series), price_columns(series))) {
    if (!is.null(series[[name]])) series[[name]][hit] <- NA
  }
  attr(series, "repaired") <- paste(
    counted(sum(hit), "value"), "left out:",
    if (any(hit)) {
      paste(
        utils::head(to_minute(utc(start_times(series)[hit])), 4),
        collapse = ", "
      )
    } else {
      "none is a spike"
    }
  )
  series
}

# The actions of a source in the archive; NULL without any.
browse_actions <- function(place, source) {
  archive <- place$reader()
  sets <- archive_datasets(archive)
  set <- datasets_of_shape(sets[sets$source == source, ], "actions")
  if (nrow(set)) archive_rows(archive, source, set$dataset[1])
}

# Where the values of a day came from; without a day, the newest ones.
browse_trace <- function(place, chosen, day) {
  if (!nzchar(day)) day <- NULL
  most <- 4
  texts <- lapply(seq_len(min(most, nrow(chosen))), function(i) {
    trace <- archive_trace(
      place$reader(), chosen$id[i], day %||% utc(as.numeric(chosen$last[i]))
    )
    # of many values of a day the last ones
    paste(format(trace[seq(max(1, nrow(trace) - 3), nrow(trace)), ]),
      collapse = "\n"
    )
  })
  shiny::tagList(
    shiny::tags$pre(paste(texts, collapse = "\n\n")),
    if (nrow(chosen) > most) {
      shiny::tags$p(class = "soft", "of the first four series")
    }
  )
}
