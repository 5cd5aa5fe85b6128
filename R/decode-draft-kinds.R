# Kinds of parts of a sample.

# An array of numbers, texts and nulls.
is_plain_array <- function(x) {
  is.list(x) &&
    is.null(names(x)) &&
    length(x) > 0 &&
    all(
      vapply(
        x,
        function(value) {
          is.null(value) || (is.atomic(value) && length(value) == 1)
        },
        TRUE
      )
    )
}

# Arrays of equal length: rows with members by position.
is_table <- function(x) {
  is.list(x) &&
    is.null(names(x)) &&
    length(x) > 0 &&
    all(vapply(x, is_plain_array, TRUE)) &&
    all(lengths(x) > 1) &&
    length(unique(lengths(x))) == 1
}

is_number <- function(x) is.numeric(x) && length(x) == 1

is_map_of_numbers <- function(x) is_object(x) && all(vapply(x, is_number, TRUE))

# An object of two or more plain arrays of one length.
is_column_set <- function(x) {
  is_object(x) && length(x) > 1 && all(vapply(x, is_plain_array, TRUE)) &&
    length(unique(lengths(x))) == 1 && length(x[[1]]) > 1
}
