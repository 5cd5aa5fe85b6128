# Numbers written by people.

# Numbers as text: with a sign, also behind the number; in parentheses for
# negative; with blanks, apostrophes or commas between thousands, and a currency
# sign; with K, M or B for thousands, millions and billions; with a decimal
# comma if the card says so. Words such as inf and numbers of other bases are
# not numbers.
read_number <- function(text, decimal = ".") {
  text <- as.character(text)
  plain <- if (decimal == ".") {
    plain_number(text)
  } else {
    rep(NA_real_, length(text))
  }
  if (!any(is.na(plain) & !is.na(text))) {
    return(plain)
  }
  text <- gsub("\u2212", "-", trimws(text), fixed = TRUE)
  if (decimal == ",") text <- chartr(".,", ",.", text)
  plain <- plain_number(text)
  dressed <- which(is.na(plain) & !is.na(text))
  text <- undressed_number(text[dressed])
  # thousands, millions and billions, as in 1.2M
  power <- number_powers[sub("^.*[0-9]\\s*([A-Za-z]+)$", "\\1", text)]
  counted <- which(!is.na(power))
  text[counted] <- paste0(
    undressed_number(sub("\\s*[A-Za-z]+$", "", text[counted])), "e",
    power[counted]
  )
  plain[dressed] <- plain_number(text)
  plain
}

number_powers <- c(
  K = 3, k = 3, M = 6, Mn = 6, mn = 6, B = 9, Bn = 9, bn = 9
)

# Texts as numbers where they read back as written, except for zeros after the
# decimal point: no leading zeros, no plus, no unusual exponent, and no more
# digits than a double keeps. NA for others: 00123, 0E12 and
# 12345678901234567890 are ids.
exact_numbers <- function(text) {
  number <- plain_number(text)
  known <- which(!is.na(number))
  plain_text <- text[known]
  plain <- grepl("^-?(0|[1-9][0-9]*)([.][0-9]+)?$", plain_text) &
    plain_text != "-0"
  digits <- nchar(gsub("[^0-9]", "", sub("^-?0?[.]?0*", "", plain_text)))
  exact <- (plain & digits <= 15) | plain_text == format_exact(number[known])
  number[known[!exact]] <- NA
  number
}

# Blanks and apostrophes between thousands: of all widths, breaking or not.
thousands_marks <- ", '\u2019\u00a0\u2000-\u200a\u202f\u205f\u3000"

undressed_number <- function(text) {
  text <- trimws(
    gsub("^([+-]?)\\s*\\p{Sc}\\s*|\\s*\\p{Sc}$", "\\1", text, perl = TRUE),
    whitespace = paste0("[", thousands_marks, "]")
  )
  text <- sub("^[(](.*)[)]$", "-\\1", text)
  text <- sub("^(-?)\\p{Sc}\\s*", "\\1", text, perl = TRUE)
  text <- sub("^([^-]*[0-9.])\\s*-$", "-\\1", text)
  grouped <- grepl(
    paste0("^[+-]?[0-9]{1,3}([", thousands_marks, "][0-9]{3})+([.][0-9]+)?$"),
    text,
    perl = TRUE
  )
  text[grouped] <-
    gsub(paste0("[", thousands_marks, "]"), "", text[grouped], perl = TRUE)
  text
}

are_whole <- function(x) all(x == round(x), na.rm = TRUE)

whole_or_none <- function(number) ifelse(number == round(number), number, NA)

flags_of <- function(text) {
  text <- tolower(as.character(text))
  ifelse(
    text %in% c("true", "1", "yes"), TRUE,
    ifelse(text %in% c("false", "0", "no"), FALSE, NA)
  )
}
