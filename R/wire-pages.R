# Page rules. Each is a small closure from an answer to the address of the next page, or NULL; the loop that follows
# pages does not know which rule it runs. `page` has the answer's members, its headers, its number of rows, the page's
# number (from 1) and the rows that came before it.

# The members of the body that the rule needs, as named pointers.
page_members <- function(offer) {
  rule <- offer$next_page
  c(following = if (isTRUE(rule$by %in% c("address", "cursor"))) rule$at, total = rule$total, pages = rule$pages, more = rule$more)
}

page_rule <- function(offer, zone = "UTC") {
  rule <- offer$next_page
  following <- page_rule_of(offer, rule, zone)
  if (is.null(rule$more)) following else function(address, page) if (says_more(page$members$more)) following(address, page)
}

# A flag that says whether there is more; one that is absent says no.
says_more <- function(value) isTRUE(tolower(as.character(member_text(value))) %in% c("true", "1", "yes", "y"))

page_rule_of <- function(offer, rule, zone) {
  switch(rule$by %||% "none",
    none = function(address, page) NULL,
    address = function(address, page) member_text(page$members$following),
    link = function(address, page) link_next(page$headers[["link"]]),
    cursor = function(address, page) member_text(page$members$following) %|else|% function(value) with_parameter(address, rule$send, value),
    page = function(address, page) {
      first <- rule$first %||% 1
      if (ends_here(page, offer, pages = member_number(page$members$pages))) NULL else with_parameter(address, rule$send, number_text(first + page$number))
    },
    offset = function(address, page) {
      if (ends_here(page, offer)) NULL else with_parameter(address, rule$send, number_text((rule$first %||% 0) + page$before + page$rows))
    },
    # the next window begins at the newest time there is; when that is no later than before, all has come
    time = function(address, page) {
      if (ends_here(page, offer) || !length(page$last)) NULL else with_parameter(address, rule$send, write_value(page$last,
        offer$parameters[[rule$send]] %||% list(), rule$send, offer, zone))
    }
  )
}

# The last page is the one that reaches the total; without a total it is a page that is short of the most there can be, or empty.
ends_here <- function(page, offer, pages = NULL) {
  if (page$rows == 0) {
    return(TRUE)
  }
  total <- member_number(page$members$total)
  if (!is.null(pages)) {
    return(page$number >= pages)
  }
  if (!is.null(total)) {
    return(page$before + page$rows >= total)
  }
  page$rows < (offer$most %||% 1)
}

member_text <- function(value) {
  if (is.null(value) || is.list(value) || length(value) != 1 || is.na(value) || identical(value, "") || identical(value, FALSE)) NULL
  else if (is.numeric(value)) number_text(value) else as.character(value)
}

member_number <- function(value) {
  number <- suppressWarnings(as.numeric(member_text(value)))
  if (length(number) == 1 && !is.na(number)) number
}

number_text <- function(x) format(x, scientific = FALSE, trim = TRUE, digits = 15)

# Web links (RFC 8288): the target of the link whose relation is next.
link_next <- function(header) {
  if (is.null(header)) {
    return(NULL)
  }
  links <- regmatches(header, gregexpr("<[^>]*>[^<]*", header))[[1]]
  is_next <- grepl(";\\s*rel\\s*=\\s*(\"([^\"]*\\s)?next(\\s[^\"]*)?\"|next\\b)", links, ignore.case = TRUE, perl = TRUE)
  if (any(is_next)) sub("^<([^>]*)>.*", "\\1", links[is_next][1])
}
