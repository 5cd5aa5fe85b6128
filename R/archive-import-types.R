# Types that an import declares for columns of its file.

schema_types <- c("text", "number", "whole number", "flag", "day", "instant")

# Texts of a column as the declared type; `bad` are those that cannot be read.
declared_values <- function(column, type) {
  text <- if (is.character(column)) column else as_text(column)
  value <- switch(type,
    text = text,
    number = plain_number(text),
    "whole number" = whole_or_none(plain_number(text)),
    day = read_day(text),
    instant = read_rfc3339(text),
    flag = flags_of(text)
  )
  list(value = value, bad = which(is.na(value) & !is.na(text)))
}

# Columns of an import as the declared types: list(rows, rejected rows).
import_declared <- function(rows, types, file) {
  for (name in setdiff(names(types), names(rows))) {
    vetusta_stop(
      "import",
      paste0(
        "The file has no column \"", name, "\", for which a type is given."
      ),
      where = file,
      todo = suggest_word(name, names(rows))
    )
  }
  rejected <- data.frame(
    row = integer(), reason = character(), detail = character()
  )
  for (name in intersect(names(types), names(rows))) {
    was <- rows[[name]]
    read <- declared_values(was, types[[name]])
    rows[[name]] <- read$value
    if (length(read$bad)) {
      rejected <- rbind(
        rejected,
        data.frame(
          row = read$bad,
          reason = paste(name, "is no", types[[name]]),
          detail = paste("value", as_text(was)[read$bad])
        )
      )
    }
  }
  list(rows = rows, rejected = rejected)
}

check_types <- function(types) {
  if (is.null(types)) {
    return(types)
  }
  if (!is.character(types) ||
    is.null(names(types)) ||
    anyNA(types) ||
    !all(nzchar(names(types)))) {
    vetusta_stop(
      "import", "`types` must be types, named by column.",
      todo = "write them as c(cusip = \"text\", lots = \"whole number\")"
    )
  }
  for (type in types) check_choice(type, "types", schema_types, "import")
  types
}
