# Tables of series in dplyr: verbs keep class and facts, as R's functions do.
# dplyr is not required; the methods register when it is loaded.

# bind_rows() needs equal facts, because a difference would be lost; rbind()
# writes differences into columns.
facts_agreed <- function(x, y) {
  all <- list(facts_of(x), facts_of(y))
  for (name in c("interval", "zone", "calendar", "delay")) {
    known <- unique(lapply(all, function(facts) fact_text(facts[[name]])))
    if (length(known) > 1) {
      vetusta_stop(
        "shape",
        paste0(
          "The tables differ in their ", name, ": ",
          paste(
            vapply(known, function(text) if (is.na(text)) "none" else text, ""),
            collapse = " and "
          ),
          "."
        ),
        todo = if (name == "interval") {
          "resample them to one interval first, or keep a list of tables"
        } else {
          "bind them with rbind(), which writes the difference into columns"
        }
      )
    }
  }
  if (units_differ(all)) {
    vetusta_stop(
      "shape", "The tables differ in their units.",
      todo = "bring them to one unit, or bind them with rbind()"
    )
  }
  facts_together(all)
}

fact_text <- function(fact) {
  if (is.null(fact)) {
    NA_character_
  } else if (inherits(fact, "vetusta_calendar")) {
    paste(fact$name, content_text(fact))
  } else {
    format(fact)
  }
}

content_text <- function(x) {
  paste(deparse(unclass(x), width.cutoff = 500), collapse = "")
}

bound_shape <- function(x, y, ...) {
  with_facts(
    with_shape(vctrs::tib_ptype2(x, y, ...), class(x)[1]), facts_agreed(x, y)
  )
}

bound_rows <- function(x, to, ...) {
  with_facts(
    with_shape(vctrs::tib_cast(x, to, ...), class(to)[1]), facts_of(to)
  )
}

#' @rawNamespace S3method(vctrs::vec_ptype2, vetusta_bars.vetusta_bars)
vec_ptype2.vetusta_bars.vetusta_bars <- function(x, y, ...) {
  bound_shape(x, y, ...)
}
#' @rawNamespace S3method(vctrs::vec_cast, vetusta_bars.vetusta_bars)
vec_cast.vetusta_bars.vetusta_bars <- function(x, to, ...) {
  bound_rows(x, to, ...)
}
#' @rawNamespace S3method(vctrs::vec_ptype2,
#'   vetusta_observations.vetusta_observations)
vec_ptype2.vetusta_observations.vetusta_observations <- function(x, y, ...) {
  bound_shape(x, y, ...)
}
#' @rawNamespace S3method(vctrs::vec_cast,
#'   vetusta_observations.vetusta_observations)
vec_cast.vetusta_observations.vetusta_observations <- function(x, to, ...) {
  bound_rows(x, to, ...)
}
#' @rawNamespace S3method(vctrs::vec_ptype2, vetusta_points.vetusta_points)
vec_ptype2.vetusta_points.vetusta_points <- function(x, y, ...) {
  bound_shape(x, y, ...)
}
#' @rawNamespace S3method(vctrs::vec_cast, vetusta_points.vetusta_points)
vec_cast.vetusta_points.vetusta_points <- function(x, to, ...) {
  bound_rows(x, to, ...)
}

# A grouped table has dplyr's class before its own, which remains after
# ungroup().
#' @rawNamespace S3method(dplyr::group_by, vetusta_series)
group_by.vetusta_series <- function(.data, ...) {
  grouped <- NextMethod()
  if (!inherits(grouped, "grouped_df")) {
    return(grouped)
  }
  in_groups(grouped, .data)
}

#' @rawNamespace S3method(dplyr::group_by, vetusta_grouped)
group_by.vetusta_grouped <- function(.data, ...) {
  in_groups(NextMethod(), .data)
}

in_groups <- function(grouped, table) {
  shape <- setdiff(
    class(table),
    c("vetusta_grouped", "grouped_df", "tbl_df", "tbl", "data.frame")
  )
  class(grouped) <- unique(c("vetusta_grouped", "grouped_df", class(grouped)))
  attr(grouped, "shape") <- attr(table, "shape", exact = TRUE) %||% shape
  with_facts(grouped, facts_of(table))
}

# The building blocks of dplyr's verbs: changed columns, chosen rows, and a
# result like its template.
#' @rawNamespace S3method(dplyr::dplyr_col_modify, vetusta_grouped)
dplyr_col_modify.vetusta_grouped <- function(data, cols) {
  in_groups(NextMethod(), data)
}
#' @rawNamespace S3method(dplyr::dplyr_row_slice, vetusta_grouped)
dplyr_row_slice.vetusta_grouped <- function(data, i, ...) {
  in_groups(NextMethod(), data)
}

#' @rawNamespace S3method(dplyr::dplyr_reconstruct, vetusta_grouped)
dplyr_reconstruct.vetusta_grouped <- function(data, template) {
  out <- NextMethod()
  if (inherits(out, "grouped_df")) {
    in_groups(out, template)
  } else {
    without_groups(out, template)
  }
}

#' @rawNamespace S3method(dplyr::dplyr_reconstruct, vetusta_series)
dplyr_reconstruct.vetusta_series <- function(data, template) {
  out <- NextMethod()
  if (all(series_shapes[[class(template)[1]]] %in% names(out))) {
    out
  } else {
    without_shape(out)
  }
}

#' @export
`[.vetusta_grouped` <- function(x, ...) {
  out <- NextMethod()
  if (inherits(out, "grouped_df")) in_groups(out, x) else out
}

#' @rawNamespace S3method(dplyr::ungroup, vetusta_grouped)
ungroup.vetusta_grouped <- function(x, ...) {
  out <- NextMethod()
  if (inherits(out, "grouped_df")) in_groups(out, x) else without_groups(out, x)
}

without_groups <- function(out, table) {
  out <- with_facts(out, facts_of(table))
  shape <- attr(table, "shape", exact = TRUE)[1]
  if (length(shape) && all(series_shapes[[shape]] %in% names(out))) {
    with_shape(out, shape)
  } else {
    out
  }
}
