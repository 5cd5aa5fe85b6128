# Findings of `vetusta sources check` in a readable card: words without effect,
# and values that do not belong into a card. A list of errors of the class
# `vetusta_error_card`; none of them stops a card from being used.

card_findings <- function(content, card, place) {
  c(
    hidden_findings(content, place),
    unlist(
      lapply(card$datasets, request_findings, place = place),
      recursive = FALSE, use.names = FALSE
    )
  )
}

card_finding <- function(what, where, todo) {
  list(vetusta_error("card", what, where, todo))
}

# A parameter that the request does not use, one that gives an unknown word, and
# bars without a symbol.
request_findings <- function(dataset, place) {
  at <- function(...) place(c("datasets", dataset$name, ...))
  used <- c(
    template_variables(paste0(dataset$request, dataset$body, dataset$job$look)),
    page_parameter(dataset)
  )
  bars <- gives_bars(dataset)
  findings <- lapply(names(dataset$parameters), function(name) {
    rule <- dataset$parameters[[name]]
    gives <- rule$gives %||% name
    # the interval's words list the available bars even if no request uses them
    listed <- gives == "interval" && length(rule$words) > 0
    odd <- !is.null(rule$gives) &&
      !gives %in% query_words &&
      (bars || length(nearest_word(gives, query_words, 1)) > 0)
    c(
      if (!name %in% used && !listed) {
        card_finding(
          paste0(
            "The request of the dataset ", dataset$name,
            " does not use the parameter ", name, "."
          ),
          at("parameters", name),
          paste0(
            "write {", name, "} or {?", name,
            "} into request:, or leave the parameter out"
          )
        )
      },
      if (odd) {
        card_finding(
          paste0("The parameter ", name, " cannot give \"", gives, "\"."),
          at("parameters", name, "gives"), suggest_word(gives, query_words)
        )
      }
    )
  })
  c(
    unlist(findings, recursive = FALSE),
    if (bars &&
      is.null(dataset$columns$symbol) &&
      !any(c("symbol", "symbols") %in% dataset_gives(dataset))) {
      card_finding(
        paste0(
          "The request of the dataset ", dataset$name,
          " has no {symbol} in its request."
        ),
        at("request"),
        paste(
          "write {symbol} into request:, or where an answer has all",
          "symbols, add the", "column symbol:"
        )
      )
    }
  )
}

# Values that look like keys.
hidden_findings <- function(content, place) {
  finding <- function(keys, label = "") {
    card_finding(
      paste0(
        "The card contains a value that looks like a key",
        if (nzchar(label)) paste0(", of \"", label, "\""), "."
      ),
      place(keys),
      paste(
        "take it out, and name it as a secret in access:, as in access:",
        "{by: query,",
        "name: key, secret: NEW_KEY}; if the card was published,",
        "replace the key"
      )
    )
  }
  pairs <- function(text, keys) {
    parts <- strsplit(sub("^[^?]*[?]?", "", text), "[&?]")[[1]]
    unlist(
      lapply(parts[grepl("=", parts, fixed = TRUE)], function(part) {
        label <- sub("=.*", "", part)
        if (looks_hidden(label, sub("^[^=]*=", "", part))) finding(keys, label)
      }),
      recursive = FALSE
    )
  }
  headers <- lapply(names(content$headers), function(name) {
    value <- sub("^[A-Za-z]+ +", "", content$headers[[name]])
    if (looks_hidden(name, value)) finding(c("headers", name), name)
  })
  datasets <- lapply(names(content$datasets), function(name) {
    dataset <- content$datasets[[name]]
    at <- c("datasets", name)
    values <- lapply(names(dataset$parameters), function(parameter) {
      if (looks_hidden(
        parameter, dataset$parameters[[parameter]]$value %||% ""
      )) {
        finding(c(at, "parameters", parameter), parameter)
      }
    })
    c(
      pairs(dataset$request %||% "", c(at, "request")),
      if (body_hides(dataset$body %||% "")) finding(c(at, "body")),
      unlist(values, recursive = FALSE)
    )
  })
  c(
    if (grepl("^[a-z]+://[^/@?#]*:[^/@?#]*@", content$url)) finding("url"),
    pairs(content$url, "url"), unlist(headers, recursive = FALSE),
    unlist(datasets, recursive = FALSE)
  )
}
