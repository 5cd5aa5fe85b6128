# Lays out R code within 100 columns: long lines are broken after commas and
# operators of the least depth, an `if` with a long body gets braces, comments
# are wrapped. A file's expressions stay what they were, but for braces; where
# they would not, the file is left as it is. Files that are named are laid out,
# else all code and all tests.
width <- 100L
arguments <- commandArgs(TRUE)
own <- list.files(
  c("R", "tests/testthat", "bench", "tools"), "[.]R$", full.names = TRUE
)
files <- if (length(arguments)) arguments else setdiff(own, "R/RcppExports.R")

# Operators after which a line may be broken, the loosest first.
loose <- c(
  "'?'", "LEFT_ASSIGN", "EQ_ASSIGN", "EQ_SUB", "EQ_FORMALS", "OR2", "AND2",
  "OR", "AND", "'~'", "SPECIAL", "PIPE", "'+'", "'-'", "'*'", "'/'", "GT",
  "LT", "GE", "LE", "EQ", "NE"
)
opens <- c("'('", "'{'", "'['", "LBB")
closes <- c("')'", "'}'", "']'")

tokens_of <- function(lines) {
  data <- utils::getParseData(
    parse(text = lines, keep.source = TRUE), includeText = TRUE
  )
  data <- data[data$terminal, ]
  data[order(data$line1, data$col1), ]
}

indent_of <- function(line) nchar(sub("[^ ].*", "", line))

# Comments, with roxygen's hanging indent kept.
wrapped_comment <- function(line) {
  mark <- sub("^( *#'?+ *).*", "\\1", line, perl = TRUE)
  hang <- if (grepl(
    "^ *#' *(@param|@return|@section|@details|@format)", line
  )) {
    "  "
  } else {
    ""
  }
  text <- substring(line, nchar(mark) + 1)
  parts <- strwrap(text, width - nchar(mark) - nchar(hang))
  c(
    paste0(mark, parts[1]), if (length(parts) > 1) paste0(mark, hang, parts[-1])
  )
}

# One long line broken once, or NULL where it cannot be.
broken_line <- function(lines, at, data) {
  line <- lines[at]
  if (grepl("^ *#", line)) {
    new <- wrapped_comment(line)
    return(if (length(new) > 1) new)
  }
  row <- data[data$line1 == at, ]
  if (!nrow(row)) {
    return(NULL)
  }
  # a comment behind code stands before it
  last <- row[nrow(row), ]
  if (last$token == "COMMENT" && nrow(row) > 1) {
    space <- strrep(" ", indent_of(line))
    return(
      c(
        paste0(space, last$text), sub(" +$", "", substr(line, 1, last$col1 - 1))
      )
    )
  }
  braced <- braced_if(line, at, data)
  if (!is.null(braced)) {
    return(braced)
  }
  depth <- 0L
  before <- integer(nrow(row))
  for (i in seq_len(nrow(row))) {
    if (row$token[i] %in% closes) depth <- depth - 1L
    before[i] <- depth
    if (row$token[i] %in% opens) {
      depth <- depth + if (row$token[i] == "LBB") 2L else 1L
    }
  }
  can <- which(
    row$col2 <= width &
      row$col2 < nchar(line) &
      (row$token %in% c("','", loose)) &
      row$line2 == at &
      seq_len(nrow(row)) < nrow(row)
  )
  # a sign is no operator
  can <- can[
    !(row$token[can] %in% c("'+'", "'-'")) |
      vapply(
        can,
        function(i) {
          i > 1 &&
            !row$token[i - 1] %in%
              c("'('", "','", "'['", loose, "'{'", "EQ_SUB")
        },
        TRUE
      )
  ]
  can <- can[!row$token[can] %in% c("EQ_SUB", "EQ_FORMALS")]
  # an assignment is broken where nothing behind it can be
  others <- can[!row$token[can] %in% c("LEFT_ASSIGN", "EQ_ASSIGN")]
  if (length(others) && min(before[others]) < 3) can <- others
  # before `else` too
  other <- which(
    row$token == "ELSE" & row$col1 - 1 <= width & seq_len(nrow(row)) > 1
  )
  if (!length(can) && !length(other)) {
    return(opened(line, row, before) %||% parted(line, row))
  }
  least <- min(c(before[can], before[other]))
  here <- c(other[before[other] == least])
  if (length(here)) {
    cut <- row$col1[here[length(here)]] - 1L
    shift <- 0L
  } else {
    same <- can[before[can] == least]
    rank <- match(row$token[same], c("','", loose))
    best <- same[rank == min(rank)]
    pick <- best[length(best)]
    # a break that leaves nearly all behind it helps little: the bracket opens
    # on a line of its own then
    cut <- row$col2[pick]
    shift <- if (row$token[pick] == "','" && least < 0) {
      0L
    } else if (starts_inside(data, at)) {
      0L
    } else {
      2L
    }
    if (least > 0 && row$token[pick] == "','") {
      shift <- if (starts_inside(data, at)) 2L else 2L
    }
  }
  space <- strrep(" ", indent_of(line) + shift)
  rest <- sub("^ +", "", substring(line, cut + 1))
  if (!nzchar(rest)) {
    return(NULL)
  }
  c(sub(" +$", "", substr(line, 1, cut)), paste0(space, rest))
}

# Whether a line goes on with what a line before it began.
starts_inside <- function(data, at) {
  earlier <- data[data$line1 < at, ]
  if (!nrow(earlier)) {
    return(FALSE)
  }
  last <- earlier[nrow(earlier), ]
  last$token %in% c("','", loose) || last$token %in% c("'('", "'['", "LBB")
}

# if (...) stop(...) with its body in braces, on lines of its own.
braced_if <- function(line, at, data) {
  row <- data[data$line1 == at, ]
  if (!row$token[1] %in% c("IF", "FOR", "WHILE") ||
    any(row$token == "ELSE") ||
    any(row$line2 > at)) {
    return(NULL)
  }
  if (at < max(data$line1)) {
    following <- data[data$line1 > at, ]
    if (nrow(following) && following$token[1] == "ELSE") {
      return(NULL)
    }
  }
  depth <- 0L
  for (i in seq_len(nrow(row))[-1]) {
    if (row$token[i] %in% c("'('", "'['")) depth <- depth + 1L
    if (row$token[i] == "LBB") depth <- depth + 2L
    if (row$token[i] %in% c("')'", "']'")) depth <- depth - 1L
    if (depth == 0L) break
  }
  if (i == nrow(row) || row$token[i + 1] == "'{'") {
    return(NULL)
  }
  # what stands in the body must end on this line
  rest <- row[(i + 1):nrow(row), ]
  if (sum(rest$token %in% c(opens, "LBB")) + sum(rest$token == "LBB") !=
    sum(rest$token %in% closes)) {
    return(NULL)
  }
  space <- strrep(" ", indent_of(line))
  c(
    substr(line, 1, row$col2[i]) |> paste0(" {"),
    paste0(space, "  ", sub("^ +", "", substring(line, row$col2[i] + 1))),
    paste0(space, "}")
  )
}

# A bracket whose content stands on lines of its own, where nothing before
# column 100 can be broken.
opened <- function(line, row, before) {
  open <- which(
    row$token == "'('" & row$col2 < width & seq_len(nrow(row)) < nrow(row)
  )
  if (!length(open)) {
    return(NULL)
  }
  pick <- open[which.min(before[open])]
  rest <- substring(line, row$col2[pick] + 1)
  if (!nzchar(trimws(rest)) || row$col2[pick] < indent_of(line) + 8) {
    return(NULL)
  }
  c(
    substr(line, 1, row$col2[pick]),
    paste0(strrep(" ", indent_of(line) + 2), trimws(rest))
  )
}

# A text that is longer than a line, in parts that are pasted together.
parted <- function(line, row) {
  long <- row[
    row$token == "STR_CONST" &
      row$col2 > width - 5 &
      row$col2 - row$col1 > 30 &
      row$line1 == row$line2,

  ]
  mark <- substr(long$text, 1, 1)
  long <- long[mark %in% c("\"", "'"), ]
  if (!nrow(long)) {
    return(NULL)
  }
  one <- long[1, ]
  mark <- substr(one$text, 1, 1)
  body <- substr(one$text, 2, nchar(one$text) - 1)
  room <- min(width - one$col1 - 10, nchar(body) - 5)
  places <- gregexpr("[^\\\\][ ,>/]", substr(body, 1, room))[[1]] + 1L
  if (room < 20 || places[1] < 2) {
    return(NULL)
  }
  cut <- places[length(places)]
  first <- paste0(
    substr(line, 1, one$col1 - 1), "paste0(", mark, substr(body, 1, cut), mark,
    ","
  )
  second <- paste0(
    mark, substring(body, cut + 1), mark, ")", substring(line, one$col2 + 1)
  )
  c(first, paste0(strrep(" ", indent_of(line) + 2), second))
}

`%||%` <- function(x, y) if (is.null(x)) y else x

left_out <- unname(as.list(formals(function(x) NULL)))
is_left_out <- function(parts, i) identical(unname(as.list(parts))[i], left_out)

without_braces <- function(x) {
  if (is.call(x)) {
    while (is.call(x) && identical(x[[1]], as.name("{")) && length(x) == 2) {
      x <- x[[2]]
    }
    if (!is.call(x)) return(x)
    for (i in seq_along(x)) {
      if (!is_left_out(x, i)) {
        part <- without_braces(x[[i]])
        if (is.null(part)) x[i] <- list(NULL) else x[[i]] <- part
      }
    }
    # parts of one text
    if (identical(x[[1]], as.name("paste0")) &&
      all(vapply(as.list(x)[-1], is.character, TRUE))) {
      return(paste(unlist(as.list(x)[-1]), collapse = ""))
    }
  } else if (is.pairlist(x)) {
    for (i in seq_along(x)) {
      if (!is_left_out(x, i)) {
        part <- without_braces(x[[i]])
        if (!is.null(part)) x[[i]] <- part
      }
    }
  }
  x
}
meaning <- function(lines) {
  lapply(as.list(parse(text = lines, keep.source = FALSE)), without_braces)
}

laid_out <- function(lines) {
  stuck <- character()
  repeat {
    long <- which(nchar(lines) > width & !lines %in% stuck)
    if (!length(long)) break
    data <- tokens_of(lines)
    # from the last line up, so that those above keep their numbers
    for (at in rev(long)) {
      new <- broken_line(lines, at, data)
      if (is.null(new) || any(nchar(new) > nchar(lines[at]))) {
        stuck <- c(stuck, lines[at])
        next
      }
      changed <- c(lines[seq_len(at - 1)], new, lines[-seq_len(at)])
      if (inherits(try(parse(text = changed), silent = TRUE), "try-error")) {
        stuck <- c(stuck, lines[at])
        next
      }
      lines <- changed
    }
  }
  lines
}

# Functions that go over several lines have their bodies in braces, the
# innermost first.
braced_functions <- function(lines) {
  repeat {
    data <- utils::getParseData(parse(text = lines, keep.source = TRUE))
    kinds <- data[data$token == "FUNCTION", ]
    found <- NULL
    for (i in rev(seq_len(nrow(kinds)))) {
      body <- data[data$parent == kinds$parent[i], ]
      body <- body[order(body$line1, body$col1), ]
      body <- body[nrow(body), ]
      open <- data[data$parent == body$id, ]
      open <- open[order(open$line1, open$col1), ]
      plain <- !nrow(open) || open$token[1] != "'{'"
      if (plain && (body$line2 > kinds$line1[i])) {
        found <- list(from = kinds[i, ], body = body)
        break
      }
    }
    if (is.null(found)) {
      return(lines)
    }
    body <- found$body
    space <- strrep(" ", indent_of(lines[found$from$line1]))
    after <- substring(lines[body$line2], body$col2 + 1)
    inner <- lines[body$line1:body$line2]
    inner[length(inner)] <- substr(inner[length(inner)], 1, body$col2)
    inner[1] <- substring(inner[1], body$col1)
    before <- sub(" +$", "", substr(lines[body$line1], 1, body$col1 - 1))
    head <- if (nzchar(trimws(before))) paste0(before, " {") else NULL
    previous <- lines[seq_len(body$line1 - 1)]
    if (is.null(head)) {
      previous[length(previous)] <- paste0(previous[length(previous)], " {")
    }
    inner[1] <- paste0(space, "  ", trimws(inner[1], "left"))
    if (length(inner) > 1) {
      short <- max(0, nchar(space) + 2 - min(vapply(inner[-1], indent_of, 1L)))
      inner[-1] <- paste0(strrep(" ", short), inner[-1])
    }
    new <- c(
      previous, head, inner, paste0(space, "}", after),
      lines[-seq_len(body$line2)]
    )
    if (inherits(try(parse(text = new), silent = TRUE), "try-error")) {
      return(lines)
    }
    lines <- new
  }
}

for (file in files) {
  lines <- readLines(file, warn = FALSE, encoding = "UTF-8")
  new <- sub(" +$", "", laid_out(braced_functions(laid_out(lines))))
  if (identical(new, lines)) next
  if (!isTRUE(all.equal(meaning(lines), meaning(new)))) {
    cat(file, ": left as it is, since its expressions would change\n", sep = "")
    next
  }
  writeLines(new, file, useBytes = TRUE)
  cat(
    file, ": ", sum(nchar(lines) > width), " long lines, ",
    sum(nchar(new) > width), " left\n", sep = ""
  )
}
