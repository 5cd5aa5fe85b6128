# Page rules. Each leads from an answer to the URL of the next page, or NULL;
# the loop over pages does not know which rule it uses. `page` has what the
# answer states (page_said()), its headers, its number of rows, the number of
# the page (from 1) and the number of earlier rows.

# What an answer states about pages, read once: `following` (a text), `total`
# and `pages` (numbers), and `more` as it was sent.
page_said <- function(dataset, members, headers) {
  said <- lapply(dataset$reading$parts, function(part) {
    if (is.list(part)) headers[[tolower(part$header)]]
  })
  said[names(members)] <- members
  list(
    following = if (!is.null(said$following)) member_text(said$following),
    total = if (!is.null(said$total)) member_number(said$total),
    pages = if (!is.null(said$pages)) member_number(said$pages),
    more = said$more
  )
}

# The URL of a page requested by a parameter. A parameter in the request's body
# is added to the URL as a fragment, which is not sent, so that each page has a
# distinct URL.
page_url <- function(url, dataset, value) {
  send <- dataset$next_page$send
  if (sends_header(dataset$next_page)) {
    text <- template_expand_plain(
      send$text %||% page_header_text(dataset),
      list(
        value = value, first = value,
        last = number_text(
          suppressWarnings(as.numeric(value)) + (
            dataset$largest_page %||% 0
          ) - 1
        )
      )
    )
    return(
      paste0(
        sub("#.*", "", url), "#",
        encode_plain(paste("header", send$header)), "=", encode_plain(text)
      )
    )
  }
  if (send %in% template_variables(dataset$body %||% "")) {
    paste0(
      sub("#.*", "", url), "#", encode_plain(send), "=", encode_plain(value)
    )
  } else {
    with_parameter(url, send, value)
  }
}

page_header_text <- function(dataset) {
  if (dataset$next_page$by == "offset") "items={first}-{last}" else "{value}"
}

# The parameter's value for the first page, where a body must contain it.
first_page_value <- function(rule) {
  switch(rule$by %||% "none",
    page = number_text(rule$first %||% 1),
    offset = number_text(rule$first %||% 0)
  )
}

# A flag for further pages; a missing one means none.
says_more <- function(value) {
  isTRUE(
    tolower(as.character(member_text(value))) %in% c("true", "1", "yes", "y")
  )
}

following_value <- function(dataset, url, page, zone = "UTC") {
  rule <- dataset$next_page
  if (!is.null(rule$more) && !says_more(page$more)) {
    return(NULL)
  }
  switch(rule$by %||% "none",
    none = NULL,
    url = page$following,
    link = link_next(page$headers[["link"]]),
    cursor = if (!is.null(page$following)) {
      page_url(url, dataset, page$following)
    },
    last = if (!ends_here(page, dataset)) {
      member_text(page$last) %|else|%
        function(value) page_url(url, dataset, value)
    },
    page = if (!ends_here(page, dataset, pages = page$pages)) {
      page_url(
        url, dataset, number_text((rule$first %||% 1) + page$number)
      )
    },
    offset = if (!ends_here(page, dataset)) {
      page_url(
        url, dataset,
        number_text((rule$first %||% 0) + page$before + page$rows)
      )
    },
    # the next window begins at the newest time, or ends at the oldest; if that
    # does not move, paging has ended
    time = {
      gives <- dataset$parameters[[rule$send]]
      edge <- if (identical(gives$gives %||% rule$send, "to")) {
        page$oldest
      } else {
        page$newest
      }
      if (length(edge) && !ends_here(page, dataset)) {
        page_url(
          url, dataset,
          write_value(edge, gives %||% list(), rule$send, dataset, zone)
        )
      }
    }
  )
}

# Whether a page is the last. It is when the source's number of pages or its
# total is reached; but a total may be too low, and a full page is not the last.
# Without a total, the last page is empty, or shorter than an earlier one: a
# service may send less than was requested, so a page below the maximum decides
# nothing alone.
ends_here <- function(page, dataset, pages = NULL) {
  if (!is.null(pages)) {
    # an empty page within the stated number of pages is not the last
    return(page$number >= pages)
  }
  if (page$rows == 0) {
    return(TRUE)
  }
  total <- page$total
  if (!is.null(total)) {
    came <- page$before + page$rows
    return(
      came >= total &&
        !is_full_page(page, dataset) &&
        (came == total || page$number > 1)
    )
  }
  if (!is.null(page$more)) {
    return(FALSE)
  }
  # if the card does not state the page length, it may be any
  !is.null(dataset$largest_page) && page$rows < max(1, page$largest)
}

# Whether a page has as many rows as the card allows, or as an earlier page had.
is_full_page <- function(page, dataset) {
  page$rows >= min(dataset$largest_page %||% Inf, page$longest %||% Inf)
}

member_text <- function(value) {
  if (is.null(value) ||
    is.list(value) ||
    length(value) != 1 ||
    is.na(value) ||
    identical(value, "") ||
    identical(value, FALSE)) {
    NULL
  } else if (is.numeric(value)) {
    number_text(value)
  } else {
    as.character(value)
  }
}

member_number <- function(value) {
  # a header may state the total as Content-Range does: items 0-99/1234
  if (is.null(value)) {
    return(NULL)
  }
  number <- suppressWarnings(
    as.numeric(sub("^[a-z]+ +[0-9*-]+/", "", member_text(value) %||% ""))
  )
  if (length(number) == 1 && !is.na(number)) number
}

number_text <- function(x) {
  format(x, scientific = FALSE, trim = TRUE, digits = 15)
}

# Web links (RFC 8288): the target of the link with the relation next.
link_next <- function(header) {
  if (is.null(header)) {
    return(NULL)
  }
  links <- regmatches(header, gregexpr("<[^>]*>[^<]*", header))[[1]]
  is_next <- grepl(
    ";\\s*rel\\s*=\\s*(\"([^\"]*\\s)?next(\\s[^\"]*)?\"|next\\b)", links,
    ignore.case = TRUE, perl = TRUE
  )
  if (any(is_next)) sub("^<([^>]*)>.*", "\\1", links[is_next][1])
}
