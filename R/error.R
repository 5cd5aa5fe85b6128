# Errors are conditions with a class of their kind; they state what, where, and
# what to do next.

vetusta_stop <- function(kind, what, where = NULL, todo = NULL, ...) {
  stop(vetusta_error(kind, what, where, todo, ...))
}

vetusta_error <- function(kind, what, where = NULL, todo = NULL, ...) {
  lines <- c(
    what, if (length(where)) paste0("  where: ", where),
    if (length(todo)) paste0("  to do: ", todo)
  )
  structure(
    class = c(
      paste0("vetusta_error_", kind), "vetusta_error", "error", "condition"
    ),
    list(
      message = paste(lines, collapse = "\n"),
      call = NULL,
      what = what,
      where = where,
      todo = todo,
      kind = kind,
      ...
    )
  )
}

# A suggestion of the known word nearest to a wrong one; empty when none is
# near.
nearest_word <- function(word, known, most = max(2, nchar(word) / 3)) {
  if (!length(known)) {
    return(NULL)
  }
  distance <- utils::adist(tolower(word), tolower(known))[1, ]
  if (min(distance) > most) {
    return(NULL)
  }
  known[which.min(distance)]
}

# "did you mean x?", or the whole list
suggest_word <- function(word, known) {
  if (!length(known)) {
    return("there are none yet")
  }
  near <- nearest_word(word, known)
  if (is.null(near)) {
    paste0("use one of: ", paste(known, collapse = ", "))
  } else {
    paste0("did you mean \"", near, "\"?")
  }
}

# An error about a missing argument, with its name.
given <- function(x, name, kind = "argument") {
  tryCatch(force(x), error = function(e) {
    if (!grepl(
      "is missing, with no default|is absent but was supplied",
      conditionMessage(e)
    )) {
      stop(e)
    }
    vetusta_stop(
      kind, paste0("`", name, "` is missing."),
      todo = paste("give", name)
    )
  })
}

check_text <- function(x, name, kind = "argument", several = FALSE) {
  x <- given(x, name, kind)
  good <- is.character(x) &&
    length(x) >= 1 &&
    !anyNA(x) &&
    all(nzchar(x)) &&
    (several || length(x) == 1)
  if (!good) {
    vetusta_stop(
      kind,
      paste0(
        "`", name, "` must be ",
        if (several) "one or more texts" else "one text",
        ", none of them empty."
      ),
      todo = paste0(
        "give ", name,
        if (several) " as a character vector" else " as a single string"
      )
    )
  }
  invisible(x)
}

# A wrong argument as text for an error.
shown_value <- function(x) {
  if (is.null(x)) {
    return("NULL")
  }
  if (!is.atomic(x) || !length(x)) {
    return(paste("a", class(x)[1]))
  }
  text <- paste(utils::head(as.character(x), 3), collapse = ", ")
  if (is.na(text)) {
    "NA"
  } else if (nchar(text) > 60) {
    paste0(substr(text, 1, 60), " ...")
  } else {
    text
  }
}

check_choice <- function(x, name, choices, kind = "argument") {
  x <- given(x, name, kind)
  if (!is.character(x) || length(x) != 1 || is.na(x) || !x %in% choices) {
    shown <- shown_value(x)
    vetusta_stop(
      kind,
      paste0("`", name, "` cannot be \"", shown, "\"."),
      todo = suggest_word(shown, choices)
    )
  }
  x
}

check_flag <- function(x, name) {
  if (!is.logical(x) || length(x) != 1 || is.na(x)) {
    vetusta_stop(
      "argument",
      paste0(
        "`", name, "` must be TRUE or FALSE, not ", shown_value(x), "."
      ),
      todo = paste("correct", name)
    )
  }
  x
}

check_number <- function(x, name, least = -Inf, kind = "argument") {
  x <- given(x, name, kind)
  if (!is.numeric(x) ||
    is.object(x) ||
    length(x) != 1 ||
    is.na(x) ||
    x < least) {
    vetusta_stop(
      kind,
      paste0(
        "`", name, "` is one number",
        if (is.finite(least)) paste0(", ", least, " or more"),
        ", not ", shown_value(x), "."
      ),
      todo = paste("correct", name)
    )
  }
  x
}

check_sessions <- function(session) {
  if (!is.null(session) &&
    (!is.character(session) || !length(session) || anyNA(session))) {
    vetusta_stop(
      "argument",
      paste0(
        "`session` must be one or more names of sessions, not ",
        shown_value(session), "."
      ),
      todo = "give names, or NULL for all sessions"
    )
  }
  session
}

check_count <- function(x, name, kind = "argument", least = 1) {
  if (!is.numeric(x) ||
    length(x) != 1 ||
    is.na(x) ||
    x < least ||
    x != round(x)) {
    vetusta_stop(
      kind,
      paste0("`", name, "` must be a whole number, ", least, " or more."),
      todo = paste("correct", name)
    )
  }
  as.numeric(x)
}

# Runs `work`. Classed errors pass through; `other` handles all others.
other_errors <- function(work, other) {
  tryCatch(
    work,
    error = function(e) if (inherits(e, "vetusta_error")) stop(e) else other(e)
  )
}
