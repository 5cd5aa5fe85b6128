# The exchange's directory and its snapshot of the whole market: about 1,200
# instruments with invented names.

market_syllables <- c(
  "kel", "tam", "bro", "ysel", "sarn", "orv", "mir", "lud", "tesk", "wen",
  "dra", "hol", "fen", "gar", "nor", "pel", "rud", "sil", "vor", "zan"
)

market_directory <- function() {
  known <- quay_instruments()
  later <- known$code == "MIRT"
  added <- known[later, ]
  known <- known[!later, ]
  n <- 1200 - nrow(known)
  pick <- function(key, from) {
    from[1 + floor(seeded_uniform(key, n) * length(from))]
  }
  kinds <- rep(
    c("share", "warrant", "contract", "fund", "index"), c(386, 700, 40, 50, 10)
  )
  letters <- vapply(
    1:5, function(i) pick(paste0("letter", i), LETTERS), character(n)
  )
  code <- substr(
    do.call(paste0, as.data.frame(letters)), 1,
    3 + floor(seeded_uniform("length", n) * 3)
  )
  code <- make.unique(code, sep = "")
  code <- ifelse(
    grepl("[0-9]", code) | code %in% known$code,
    paste0(
      "Z", substr(letters[, 2], 1, 1), LETTERS[1 + seq_len(n) %% 26],
      letters[, 3], LETTERS[1 + seq_len(n) %/% 26 %% 26]
    ),
    code
  )
  title <- function(text) {
    paste0(toupper(substr(text, 1, 1)), substring(text, 2))
  }
  name <- paste(
    title(
      paste0(pick("first", market_syllables), pick("second", market_syllables))
    ),
    c(
      share = "Barges", warrant = "Warrant", contract = "Freight",
      fund = "Fund", index = "Index"
    )[kinds]
  )
  rows <- data.frame(
    code = c(known$code, code),
    title = c(known$name, name),
    kind = c(rep("share", nrow(known)), kinds),
    money = "ORV"
  )
  rows <- rows[!duplicated(rows$code) & !rows$code %in% added$code, ]
  rbind(
    rows,
    data.frame(
      code = added$code, title = added$name, kind = "share", money = "ORV"
    )
  )
}

market_sectors <- c(
  "barges", "ports", "mills", "grain", "timber", "gravel", "salt", "fuel",
  "insurance", "shipyards", "towage", "storage", "funds", "indices"
)

# Each instrument is in a sector; one in twenty is in a second one too.
directory_sectors <- function(directory) {
  n <- nrow(directory)
  drawn <- function(key) 1 + floor(seeded_uniform(key, n) * 12)
  first <- drawn("sector")
  first[directory$kind == "fund"] <- 13
  first[directory$kind == "index"] <- 14
  second <- ifelse(seeded_uniform("twice", n) < 0.05, drawn("second"), first)
  list(first = market_sectors[first], second = market_sectors[second])
}

# Two companies that had one symbol, one after the other.
directory_oldmere <- list(
  mills = list(
    title = "Oldmere Mills", since = "2010-01-04", until = "2018-09-30"
  ),
  towage = list(title = "Oldmere Towage", since = "2021-01-04", until = NA)
)

# Instruments by sector, in pages of 150.
directory_page <- function(sector, query, directory) {
  if (!sector %in% market_sectors) {
    return(
      standin_problem(
        404L, "sector",
        paste0("The sectors are ", paste(market_sectors, collapse = ", "), ".")
      )
    )
  }
  sectors <- directory_sectors(directory)
  listings <- directory[sectors$first == sector | sectors$second == sector, ]
  listings$sector <- sector
  listings$since <- vapply(
    listings$code, function(code) format(quay_listed(code)), ""
  )
  if (sector %in% names(directory_oldmere)) {
    more <- as.data.frame(directory_oldmere[[sector]])
    listings <- as.data.frame(data.table::rbindlist(
      list(listings, cbind(
        code = "OLDM", kind = "share", money = "ORV", sector = sector, more
      )), use.names = TRUE, fill = TRUE
    ))
  }
  page <- suppressWarnings(as.numeric(query$page %||% 1))
  if (is.na(page) || page < 1) {
    return(standin_problem(400L, "page", "page is a whole number from 1."))
  }
  rows <- seq_len(nrow(listings))
  standin_json(
    200L,
    list(
      found = listings[rows > 150 * (page - 1) & rows <= 150 * page, ],
      pages = ceiling(nrow(listings) / 150)
    )
  )
}

market_snapshot <- function(directory) {
  n <- nrow(directory)
  last <- round(5 + 200 * seeded_uniform("last", n), 3)
  quiet <- directory$kind == "warrant"
  percent <- round(seeded_normal("percent", n) * ifelse(quiet, 18, 1.6), 2)
  quantity <- floor(
    ifelse(quiet, 4, 90000) * -log(seeded_uniform("quantity", n))
  )
  rows <- lapply(seq_len(n), function(i) {
    list(
      last[i], round(last[i] * percent[i] / 100, 3),
      sprintf("%+.2f%%", percent[i]), quantity[i]
    )
  })
  standin_json(
    200L,
    list(
      moment = "2026-03-26T15:00:00Z",
      lines = stats::setNames(
        lapply(rows, function(row) {
          list(
            lst = row[[1]], moved = row[[2]], share = row[[3]], qty = row[[4]]
          )
        }),
        directory$code
      )
    )
  )
}
