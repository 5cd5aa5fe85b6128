# Writes docs/reference.md: every command with its options, the words of source
# cards and desks, and the functions. Run it with the package installed.
package <- asNamespace("vetusta")

help_of <- function(command) {
  text <- utils::capture.output(
    try(package$cli_run(c("help", command)), silent = TRUE)
  )
  # capture.output adds the printed value
  text[!grepl("^\\[1\\] [0-9]$|^others of its group", text)]
}

commands <- unlist(lapply(names(package$cli_groups), function(group) {
  own <- package$cli_groups[[group]]
  c(
    "", paste("###", group),
    unlist(lapply(own, function(command) {
      c("", paste0("#### ", command), "", "```", help_of(command), "```")
    }))
  )
}))

# The words of a grammar as a list, each with its values.
takes <- function(rule) {
  if (is.list(rule)) {
    return(
      if (!is.null(rule$.short)) {
        paste0(sub("^!", "", rule$.short[1]), ", or words")
      } else {
        "words"
      }
    )
  }
  type <- sub("^!", "", rule[1])
  if (type == "word") paste(rule[-1], collapse = ", ") else type
}
words <- function(rules, depth = 0) {
  rules <- rules[!names(rules) %in% ".short"]
  unlist(lapply(names(rules), function(name) {
    rule <- rules[[name]]
    if (name == ".each") {
      return(
        if (is.list(rule)) {
          words(rule, depth)
        } else {
          paste0(strrep("  ", depth), "- any name: ", takes(rule))
        }
      )
    }
    needed <- is.character(rule) && startsWith(rule[1], "!")
    c(
      paste0(
        strrep("  ", depth), "- `", name, "`: ", takes(rule),
        if (needed) " (required)"
      ),
      if (is.list(rule)) words(rule, depth + 1)
    )
  }))
}

pages <- list.files("man", "[.]Rd$", full.names = TRUE)
titles <- vapply(
  pages,
  function(page) {
    rd <- tools::parse_Rd(page)
    tags <- vapply(rd, attr, "", "Rd_tag")
    trimws(paste(unlist(rd[[which(tags == "\\title")]]), collapse = ""))
  },
  ""
)
names <- lapply(pages, function(page) {
  lines <- readLines(page)
  aliases <- sub(
    "^\\\\alias\\{(.*)\\}$", "\\1", grep("^\\\\alias\\{", lines, value = TRUE)
  )
  intersect(aliases, getNamespaceExports("vetusta"))
})
functions <- paste0(
  "- ",
  vapply(names, function(own) paste0("`", own, "()`", collapse = ", "), ""),
  ": ", titles
)[lengths(names) > 0]

writeLines(
  c(
    "# Reference", "",
    paste0(
      "Written by `make docs` from the code: commands, words of source ",
      "cards and desks, functions."
    ),
    "", "## Commands", "",
    "Data goes to standard output and everything else to standard error. The",
    paste0(
      "exit status is 0 for done, 1 for failed, 2 for wrong usage, 3 ",
      "for a stale or incomplete desk"
    ),
    "(`status`). A word `@FILE` is replaced by the lines of the file.",
    commands, "", "## Words of a source card", "",
    words(package$card_grammar()), "", "## Words of desk.yml", "",
    words(package$desk_grammar()), "", "## Words of an import card", "",
    words(package$import_grammar()), "", "## Functions", "",
    "`?name` in R shows the help page.", "", sort(functions)
  ),
  "docs/reference.md"
)

# docs/cookbook.md: the cards by manner
cards <- vetusta::source_cookbook()
manner <- sub("-.*", "", cards$name)
titles <- c(
  access = "Access", limits = "Limits", request = "Requests", pages = "Paging",
  form = "Forms of rows", table = "Text tables", times = "Times",
  numbers = "Numbers", answers = "Other answers", job = "Exports",
  statistics = "Statistics"
)
sections <- lapply(names(titles), function(name) {
  chosen <- cards[manner == name, ]
  c(
    "", paste("##", titles[[name]]),
    unlist(lapply(seq_len(nrow(chosen)), function(i) {
      c(
        "", paste("###", chosen$name[i]), "", "```yaml",
        strsplit(chosen$card[i], "\n")[[1]], "```"
      )
    }))
  )
})
writeLines(
  c(
    "# A cookbook of source cards", "",
    paste(
      "Each card shows one manner of an API. `vetusta sources cookbook WORD`",
      "lists and shows them, `vetusta sources draft` drafts a card from an",
      "answer, and [source cards](source-cards.md) explains every word."
    ),
    unlist(sections)
  ),
  "docs/cookbook.md"
)
