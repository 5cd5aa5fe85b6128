# Page rules. Each is a small closure from an answer to the URL of the next page, or NULL; the
# loop that follows pages does not know which rule it runs. `page` has what the answer says
# (page_said()), its headers, its number of rows, the page's number (from 1) and the rows that came
# before it.

# What an answer says of its pages, read once: `following` (a text), `total` and `pages` (numbers),
# and `more` as it stands there.
page_said <- function(dataset, members, headers) {
  said <- lapply(dataset$reading$parts, function(part) {
    if (is.list(part)) headers[[tolower(part$header)]]
  })
  said[names(members)] <- members
  list(following = member_text(said$following), total = member_number(said$total),
    pages = member_number(said$pages), more = said$more)
}

page_rule <- function(dataset, zone = "UTC") {
  rule <- dataset$next_page
  following <- page_rule_of(dataset, rule, zone)
  if (is.null(rule$more)) following
  else function(url, page) if (says_more(page$more)) following(url, page)
}

# The URL of a page that is asked for by a parameter. Where the request's body bears the
# parameter, the URL bears it too, as a
# fragment: fragments are not sent, and each page has a URL of its own.
page_url <- function(url, dataset, value) {
  send <- dataset$next_page$send
  if (send %in% template_variables(dataset$body %||% "")) paste0(sub("#.*", "", url), "#",
    encode_plain(send), "=", encode_plain(value)) else with_parameter(url, send, value)
}

# The value of a parameter before any page was had, where a body cannot leave it out.
first_page_value <- function(rule) {
  switch(rule$by %||% "none",
  page = number_text(rule$first %||% 1), offset = number_text(rule$first %||% 0))
}

# A flag that says whether there is more; one that is absent says no.
says_more <- function(value) {
  isTRUE(tolower(as.character(member_text(value))) %in%
  c("true", "1", "yes", "y"))
}

page_rule_of <- function(dataset, rule, zone) {
  switch(rule$by %||% "none",
    none = function(url, page) NULL,
    url = function(url, page) page$following,
    link = function(url, page) link_next(page$headers[["link"]]),
    cursor = function(url, page) {
      page$following %|else|% function(value) page_url(url, dataset, value)
    },
    last = function(url, page) {
      if (ends_here(page, dataset)) NULL
      else member_text(page$last) %|else|% function(value) page_url(url, dataset, value)
    },
    page = function(url, page) {
      first <- rule$first %||% 1
      if (ends_here(page, dataset, pages = page$pages)) NULL
      else page_url(url, dataset, number_text(first + page$number))
    },
    offset = function(url, page) {
      if (ends_here(page, dataset)) NULL
      else page_url(url, dataset,
        number_text((rule$first %||% 0) + page$before + page$rows))
    },
    # the next window begins at the newest time there is, or ends at the oldest; when that is where
    # it was before, all has come
    time = function(url, page) {
      gives <- dataset$parameters[[rule$send]]
      edge <- if (identical(gives$gives %||% rule$send, "to")) page$oldest else page$newest
      if (ends_here(page, dataset) || !length(edge)) NULL
      else page_url(url, dataset,
        write_value(edge, gives %||% list(), rule$send, dataset, zone))
    }
  )
}

# Whether a page is the last one. It is where the source's own number of pages is reached, or its
# total; but a total may be too low, and a page that is as long as pages can be is not the last.
# Where
# no total is told, the last page is an empty one, or one that is shorter than another before it: a
# service may give less than it is asked for, so that being short of the most there can be says
# nothing yet.
ends_here <- function(page, dataset, pages = NULL) {
  if (!is.null(pages)) {
    # an empty page within the source's own count is not the last
    return(page$number >= pages)
  }
  if (page$rows == 0) {
    return(TRUE)
  }
  total <- page$total
  if (!is.null(total)) {
    came <- page$before + page$rows
    return(came >= total && !is_full_page(page, dataset) && (came == total || page$number > 1))
  }
  if (!is.null(page$more)) {
    return(FALSE)
  }
  # where the card does not say how long pages are, they may be of any length
  !is.null(dataset$largest_page) && page$rows < max(1, page$largest)
}

# Whether a page is as long as the card says that pages can be, or as long as one before it.
is_full_page <- function(page, dataset) {
  page$rows >= min(dataset$largest_page %||% Inf, page$longest %||% Inf)
}

member_text <- function(value) {
  if (is.null(value) || is.list(value) || length(value) != 1 || is.na(value) ||
    identical(value, "") || identical(value, FALSE)) NULL
  else if (is.numeric(value)) number_text(value) else as.character(value)
}

member_number <- function(value) {
  # a header may tell the total as Content-Range does: items 0-99/1234
  if (is.null(value)) {
    return(NULL)
  }
  number <- suppressWarnings(as.numeric(sub("^[a-z]+ +[0-9*-]+/", "", member_text(value) %||% "")))
  if (length(number) == 1 && !is.na(number)) number
}

number_text <- function(x) format(x, scientific = FALSE, trim = TRUE, digits = 15)

# Web links (RFC 8288): the target of the link whose relation is next.
link_next <- function(header) {
  if (is.null(header)) {
    return(NULL)
  }
  links <- regmatches(header, gregexpr("<[^>]*>[^<]*", header))[[1]]
  is_next <- grepl(";\\s*rel\\s*=\\s*(\"([^\"]*\\s)?next(\\s[^\"]*)?\"|next\\b)", links,
    ignore.case = TRUE, perl = TRUE)
  if (any(is_next)) sub("^<([^>]*)>.*", "\\1", links[is_next][1])
}
