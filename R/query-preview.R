# A small query in place of a large one, to look at before it is collected.

# Of statistics the newest value of the first series: the longest dimensions are
# cut until some hundred series remain.
query_preview <- function(query, rows) {
  UseMethod("query_preview")
}

#' @export
query_preview.default <- function(query, rows) query

#' @export
query_preview.vetusta_query_observations <- function(query, rows) {
  codes <- lapply(names(query$selection), function(id) {
    query$selection[[id]] %||% query$about$available[[id]] %||%
      query$about$codes[[id]]$id
  })
  names(codes) <- names(query$selection)
  goal <- max(rows, 200)
  while (prod(lengths(codes)) > goal && max(lengths(codes)) > 1) {
    longest <- which.max(lengths(codes))
    codes[[longest]] <- utils::head(
      codes[[longest]], max(1, length(codes[[longest]]) %/% 2)
    )
  }
  cut <- lengths(codes) > 0
  query$selection[cut] <- codes[cut]
  query$parameters$lastNObservations <- 1
  query
}
