# Readers of local files, of any file format.

# Reads a file and calls `each` with rows and their line numbers; text tables
# are read in parts.
import_parts <- function(file, each, absent = import_absent, kinds = NULL,
                         own = NULL) {
  ending <- tolower(sub(".*[.]", "", file))
  read <- if (is.null(own)) {
    import_readers[[ending]]
  } else {
    function(file) import_read_by(own, file)
  }
  if (is.null(read)) {
    return(read_table_file(file, absent = absent, kinds = kinds, each = each))
  }
  rows <- read(file)
  if (!nrow(rows) || ncol(rows) < 1) {
    vetusta_stop(
      "import", "The file has no rows.",
      where = file,
      todo = "check the program that wrote it"
    )
  }
  rows <- list_frame(lapply(as.list(rows), function(column) {
    if (is.factor(column)) column <- as.character(column)
    if (is.character(column)) without_absent(column, absent) else column
  }))
  list(each(marked_texts(rows), seq_len(nrow(rows)) + (ending == "xlsx")))
}

# What a format marks as text stays text.
marked_texts <- function(rows) {
  attr(rows, "quoted") <- names(rows)[vapply(as.list(rows), is.character, TRUE)]
  rows
}

# Texts of a format that has missing values itself: a word as "NA" is one only
# among numbers or times; among other texts it is a text, as the code of a
# country.
without_absent <- function(text, absent) {
  text[text %in% ""] <- NA
  word <- text %in% absent
  if (any(word)) {
    others <- text[!word & !is.na(text)]
    plain <- is.na(plain_number(others)) & is.na(read_day(others)) &
      is.na(read_rfc3339(others))
    if (length(others) && !any(plain)) text[word] <- NA
  }
  text
}

# Rows that the user's function makes of a file.
import_read_by <- function(read, file) {
  rows <- tryCatch(read(file), error = function(e) {
    vetusta_stop(
      "import", paste0("The function `read` failed: ", conditionMessage(e)),
      where = file, todo = "correct the function"
    )
  })
  if (!is.data.frame(rows)) {
    vetusta_stop(
      "import", "The function `read` must return a data frame.",
      where = file, todo = "return a data frame with a row per bar or value"
    )
  }
  as.data.frame(rows)
}

check_read <- function(read, form) {
  if (is.null(read)) {
    return(invisible())
  }
  if (!is.function(read)) {
    vetusta_stop(
      "import", "`read` must be a function of a file.",
      todo = "write it as function(file) read.fwf(file, c(10, 8))"
    )
  }
  if (!is.null(form)) {
    vetusta_stop(
      "import", "Give either `read` or `form`, not both.",
      todo = "leave out `form`: the function reads the file"
    )
  }
}

import_readers <- list(
  parquet = function(file) {
    tryCatch(
      list_frame(parquet_instants(nanoparquet::read_parquet(file), FALSE)),
      error = function(e) {
        vetusta_stop(
          "import", "The file is not Parquet, or it is damaged.",
          where = file,
          todo = "write or download it again"
        )
      }
    )
  },
  xlsx = function(file) read_sheet(file),
  jsonl = function(file) {
    body <- text_in_utf8(readBin(file, "raw", file.size(file)))
    parse <- function(exact) {
      tryCatch(
        read_json(json_lines(body)$body, where = file, exact = exact)[[1]],
        vetusta_error_payload = function(e) {
          vetusta_stop(
            "import", "A line of the file is not JSON.",
            where = file,
            todo = "write one JSON object per line"
          )
        }
      )
    }
    read <- parse(FALSE)
    # numbers with more digits than a double are kept as text
    long <- is.data.frame(read) &&
      any(vapply(
        as.list(read),
        function(column) {
          is.numeric(column) && is_long(column)
        },
        TRUE
      ))
    if (long) read <- parse(TRUE)
    if (!is.data.frame(read)) {
      vetusta_stop(
        "import", "The lines of the file are not JSON objects.",
        where = file,
        todo = "write one JSON object per line"
      )
    }
    read
  }
)
