# Places within a distance of a point.

# The mean radius of the ellipsoid of WGS 84, in metres (Moritz, Geodetic
# Reference System 1980, Journal of Geodesy 74, 2000; that of WGS 84 is the same
# to the decimetre).
earth_radius <- 6371008.8

#' Find places near a point
#'
#' Distances follow great circles of a sphere with the mean radius of the WGS 84
#' ellipsoid, 6371.0088 km; they are within half a percent of those on the
#' ellipsoid.
#'
#' @param places A data frame of places with `latitude` and `longitude` in
#'   degrees, north and east positive; ties are decided by `first`, `last`,
#'   `rows` or `coverage`, if present, in favour of the place with more data.
#' @param latitude,longitude The point, in degrees.
#' @param within The greatest distance, as `"30 km"`, `"800 m"` or a number of
#'   kilometres.
#' @param limit The largest number of places.
#' @return A tibble of the places within the distance, nearest first, with
#'   `distance_km`.
#' @section Errors: `vetusta_error_argument` for invalid coordinates (with a
#'   hint if they may be swapped), an invalid distance, or places without
#'   coordinates.
#' @export
#' @examples
#' places <- data.frame(
#'   place = c("kelder-lock", "tamm-weir"), latitude = c(57.12, 57.31),
#'   longitude = c(24.31, 24.55)
#' )
#' places_near(places, 57.1, 24.3, within = "30 km")
places_near <- function(places, latitude, longitude, within = "50 km",
                        limit = Inf) {
  check_rows(places, "places")
  check_point(latitude, longitude)
  reach <- read_distance(within)
  check_number(limit, "limit", 1)
  for (name in c("latitude", "longitude")) {
    if (!is.numeric(places[[name]])) {
      vetusta_stop(
        "argument",
        paste0("These places have no numbers in a column `", name, "`."),
        where = paste("their columns:", paste(names(places), collapse = ", ")),
        todo = "name the columns latitude and longitude in the source card"
      )
    }
  }
  distance <- great_circle(
    latitude, longitude, places$latitude, places$longitude
  )
  near <- which(distance <= reach)
  full <- if (!is.null(places[["coverage"]])) {
    places$coverage
  } else if (!is.null(places[["rows"]])) {
    places$rows
  } else {
    rep(0, nrow(places))
  }
  order <- near[
    order(round(distance[near], 1), -as.numeric(full[near]), method = "radix")
  ]
  order <- utils::head(order, limit)
  as_rows(
    c(
      as.list(places[order, , drop = FALSE]),
      list(distance_km = round(distance[order] / 1000, 4))
    )
  )
}

# Metres between points, by the haversine formula, which is accurate for small
# distances too (Sinnott, Virtues of the Haversine, Sky and Telescope 68, 1984).
great_circle <- function(latitude, longitude, latitudes, longitudes) {
  radians <- pi / 180
  north <- sin((latitudes - latitude) * radians / 2)^2
  east <- sin((longitudes - longitude) * radians / 2)^2
  half <- north + cos(latitude * radians) * cos(latitudes * radians) * east
  2 * earth_radius * asin(pmin(1, sqrt(half)))
}

check_point <- function(latitude, longitude) {
  check_number(latitude, "latitude")
  check_number(longitude, "longitude")
  if (abs(latitude) <= 90 && abs(longitude) <= 180) {
    return(invisible())
  }
  turned <- abs(longitude) <= 90 && abs(latitude) <= 180
  vetusta_stop(
    "argument",
    paste0(
      "The point ", format_exact(latitude), ",", format_exact(longitude),
      " is no place: latitudes are -90 to 90, longitudes -180 to 180."
    ),
    todo = if (turned) {
      paste0(
        "the latitude is first; the other way round this is ",
        format_exact(longitude), ",", format_exact(latitude)
      )
    } else {
      "give degrees"
    }
  )
}

# A distance in metres.
read_distance <- function(within) {
  if (is.numeric(within) &&
    length(within) == 1 &&
    within %in% within[is.finite(within)] &&
    within > 0) {
    return(within * 1000)
  }
  parts <- if (is.character(within) && length(within) == 1) {
    regmatches(within, regexec("^ *([0-9.]+) *(km|m)? *$", within))[[1]]
  }
  number <- if (length(parts)) suppressWarnings(as.numeric(parts[2])) else NA
  if (is.na(number) || number <= 0) {
    vetusta_stop(
      "argument",
      paste0("The distance cannot be \"", shown_value(within), "\"."),
      todo = "write it as 30 km or 800 m"
    )
  }
  number * if (parts[3] == "m") 1 else 1000
}
