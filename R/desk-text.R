# A desk's file is edited as text, so that comments, order and formatting stay.

# The lines of a part: up to the next part, without remarks and blank lines
# right before that one.
desk_text_block <- function(lines, key) {
  start <- grep(paste0("^", key, "[ \t]*:"), lines)
  if (!length(start)) {
    return(integer())
  }
  after <- grep("^[^ \t#]", lines)
  after <- after[after > start[1]]
  end <- if (length(after)) after[1] - 1L else length(lines)
  while (end > start[1] && grepl("^[ \t]*(#.*)?$", lines[end])) end <- end - 1L
  start[1]:end
}

# Lines with a new value of a part, otherwise unchanged.
desk_text_set <- function(lines, key, value) {
  block <- desk_text_block(lines, key)
  fresh <- c(paste0(key, ":"), desk_text_lines(value, 2L))
  if (!length(block)) {
    return(c(lines, fresh))
  }
  append(lines[-block], fresh, block[1] - 1L)
}

# Lines with another entry at the end of a part.
desk_text_add <- function(lines, key, name, entry) {
  block <- desk_text_block(lines, key)
  indent <- desk_text_indent(lines[block])
  fresh <- desk_text_lines(stats::setNames(list(entry), name), indent)
  if (!length(block)) {
    return(
      c(
        lines, if (length(lines) && nzchar(lines[length(lines)])) "",
        paste0(key, ":"), fresh
      )
    )
  }
  # a part without entries
  if (length(block) == 1) lines[block] <- paste0(key, ":")
  append(lines, fresh, block[length(block)])
}

desk_text_indent <- function(block) {
  below <- grep("^[ \t]+[^ \t#]", block[-1], value = TRUE)
  if (length(below)) nchar(sub("[^ ].*", "", below[1])) else 2L
}

# Lines without an entry and the remarks right above it.
desk_text_drop <- function(lines, key, name) {
  block <- desk_text_block(lines, key)
  indent <- desk_text_indent(lines[block])
  names <- grep(paste0("^ {", indent, "}[^ #-]"), lines)
  names <- names[names %in% block[-1]]
  at <- names[grepl(paste0("^ +[\"']?", name, "[\"']?[ \t]*:"), lines[names])]
  if (length(at) != 1) {
    return(lines)
  }
  next_one <- names[names > at]
  end <- if (length(next_one)) next_one[1] - 1L else block[length(block)]
  remark <- paste0("^ {", indent, "}#")
  # remarks before the next entry belong to that entry
  while (end > at && grepl("^[ \t]*(#.*)?$", lines[end])) end <- end - 1L
  start <- at
  while (start > block[1] + 1L && grepl(remark, lines[start - 1L])) {
    start <- start - 1L
  }
  lines[-(start:end)]
}

# A value as YAML lines: short lists in one line, others below each other.
desk_text_lines <- function(value, indent) {
  space <- strrep(" ", indent)
  unlist(lapply(names(value), function(name) {
    part <- value[[name]]
    if (is.list(part)) {
      return(c(paste0(space, name, ":"), desk_text_lines(part, indent + 2L)))
    }
    texts <- vapply(part, desk_text_scalar, "", USE.NAMES = FALSE)
    line <- paste0(
      space, name, ": ",
      if (length(part) == 1) {
        texts
      } else {
        paste0("[", paste(texts, collapse = ", "), "]")
      }
    )
    if (nchar(line) <= 100) {
      line
    } else {
      c(paste0(space, name, ":"), paste0(space, "  - ", texts))
    }
  }))
}

desk_text_scalar <- function(value) {
  if (is.character(value)) {
    text <- sub("\n$", "", yaml::as.yaml(value))
    # text with characters of lists is quoted
    if (!grepl("^['\"]", text) && grepl("[][{},]", text)) {
      paste0("\"", text, "\"")
    } else {
      text
    }
  } else if (is.logical(value)) {
    tolower(as.character(value))
  } else {
    format_exact(value)
  }
}

# Writes the desk's file, after checking that it reads as expected.
desk_text_write <- function(desk, lines, expected, what) {
  content <- tryCatch(
    desk_plain(card_yaml(lines, desk$file, "desk")),
    vetusta_error = function(e) NULL
  )
  same <- identical(
    lapply(content$track, desk_sorted), lapply(expected, desk_sorted)
  )
  if (!same && length(content$track) + length(expected) > 0) {
    vetusta_stop(
      "desk",
      paste0(
        what, " cannot be written: the layout of the desk's file cannot be ",
        "edited."
      ),
      where = desk$file,
      todo = paste0(
        "write track: with each query on separate lines below it, or edit ",
        "the file by hand"
      )
    )
  }
  write_lines_whole(lines, desk$file, "desk")
}

# Entries for comparison: the order of words and the type of values do not
# matter.
desk_sorted <- function(entry) {
  if (!is.list(entry)) {
    return(as.character(entry))
  }
  lapply(entry[order(names(entry))], desk_sorted)
}
