#' Compute columns
#'
#' @param rows A data frame.
#' @param formulas Texts `name=formula`: numbers and columns with `+`, `-`, `*`,
#'   `/`, `^`, parentheses, `abs()`, `log()`, `sqrt()` and `round()`; later
#'   formulas may use earlier columns. No other code is run.
#' @return The rows with the new columns at the end; an existing column of the
#'   same name is replaced.
#' @section Errors: `vetusta_error_argument` for an invalid formula, an unknown
#'   column (with the nearest name) or a column without numbers.
#' @export
#' @examples
#' rows <- data.frame(symbol = "KELD", open = 40, last = 41)
#' rows_compute(rows, "gain = 100 * (last / open - 1)")
rows_compute <- function(rows, formulas) {
  check_rows(rows, "rows")
  formulas <- given(formulas, "formulas")
  if (!length(formulas)) {
    return(rows)
  }
  check_text(formulas, "formulas", several = TRUE)
  for (formula in formulas) {
    parts <- regmatches(
      formula, regexec("^ *([A-Za-z][A-Za-z0-9_.]*) *=([^=].*)$", formula)
    )[[1]]
    code <- if (length(parts)) {
      tryCatch(str2lang(parts[3]), error = function(e) NULL)
    }
    if (is.null(code)) stop_formula(formula)
    value <- formula_value(code, rows, formula)
    rows[[parts[2]]] <- rep_len(as.double(value), nrow(rows))
  }
  rows
}

formula_signs <- c("+", "-", "*", "/", "^", "(", "abs", "log", "sqrt", "round")

# The value of a formula. It may contain only numbers, columns and the operators
# above.
formula_value <- function(code, rows, formula) {
  if (is.numeric(code)) {
    return(code)
  }
  if (is.name(code)) {
    return(formula_column(rows, as.character(code)))
  }
  if (!is.call(code) ||
    !is.name(code[[1]]) ||
    !as.character(code[[1]]) %in% formula_signs ||
    length(code) > 3) {
    stop_formula(formula)
  }
  values <- lapply(
    as.list(code)[-1], formula_value,
    rows = rows, formula = formula
  )
  suppressWarnings(do.call(as.character(code[[1]]), values, envir = baseenv()))
}

formula_column <- function(rows, name) {
  check_column(rows, name)
  column <- compared_texts(rows[[name]])
  if (!is.numeric(column)) {
    vetusta_stop(
      "argument", paste0("The column \"", name, "\" has no numbers."),
      todo = "choose a column of numbers"
    )
  }
  as.double(column)
}

stop_formula <- function(formula) {
  vetusta_stop(
    "argument",
    paste0("The formula \"", formula, "\" cannot be read."),
    todo = paste0(
      "write it as name=formula, with columns, numbers and ",
      paste(formula_signs, collapse = " ")
    )
  )
}
