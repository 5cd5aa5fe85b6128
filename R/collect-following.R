# The address of the page that follows, and why it may not be asked for.

# Where the next page is: `address`, or nothing where this one is the last; `halt`, an error, where
# it cannot be asked for, though this page is good.
following_page <- function(source, chain, value, where, by = NULL) {
  if (is.null(value)) {
    return(NULL)
  }
  halt <- function(what, todo) list(halt = vetusta_error("payload", what, where, todo))
  address <- absolute_address(value, chain$request$address)
  if (is.na(address) || !grepl("^https?://", address, ignore.case = TRUE)) {
    return(halt(paste0("The next page's address cannot be read: \"", value, "\"."),
      "look at next_page: in the card"))
  }
  elsewhere <- function(...) {
    paste0("The next page's address leads to another place, ", origin_of(address), ...)
  }
  own <- same_origin(address, source$address)
  if (!own && !may_follow(address, source$address, source$elsewhere)) {
    return(halt(elsewhere("."),
      paste("it is not followed, because the key must not go there; where it is right,",
      "say elsewhere: follow in the card, and it is followed without the key")))
  }
  address <- without_parameter(address, source$access)
  if (!own && has_secret(address, source_secrets(source))) {
    return(halt(elsewhere(", with a secret in it."),
      "tell the service's makers: a key must not go elsewhere"))
  }
  # a last page that names itself is the last
  if (address == chain$request$address) {
    return(NULL)
  }
  if (address %in% chain$seen) {
    return(if (!identical(by,
      "time")) halt("The next page's address was asked for already: the pages go round.",
      "tell the service's makers; what came so far is kept"))
  }
  if (chain$page >= page_bound) {
    return(halt(paste0("There are more than ", format(page_bound, big.mark = ","), " pages."),
      "ask for a shorter window"))
  }
  list(address = address)
}

page_bound <- 100000

# A credential that the service repeats in its next address is taken out: it is put on when the
# call is sent.
without_parameter <- function(address, access) {
  if (!identical(access$by, "query")) {
    return(address)
  }
  # its name may be percent-encoded too
  pattern <- paste0("([?&])", percent_pattern(access$name), "=[^&#]*&?")
  address <- sub(pattern, "\\1", address, perl = TRUE)
  sub("&$", "", sub("[?]$", "", address))
}
