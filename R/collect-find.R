# The datasets of a source: those of its card, and those of its structures.

#' Find datasets
#'
#' @param source A source, see [source_card()].
#' @param words Words to search for in identifier, title, description and theme,
#'   in every language of the service; `NULL` for all datasets.
#' @param theme A theme, by its path or the beginning of its path, see
#'   [datasets_themes()].
#' @param language The language of the results.
#' @param archive An archive that stores structures, so that recent ones are not
#'   requested again.
#' @param free Whether to leave out datasets whose card says that they cost
#'   money (`cost: paid`).
#' @return `datasets_find()`: a tibble of `source`, `dataset`, `title`, `shape`,
#'   `theme`, `description`, `version`, `cost` (`free` or `paid`) and `plan`
#'   where the card says so, `score`, best first: the datasets of the card, and
#'   the dataflows of a statistics office.
#' @section Errors: `vetusta_error_argument` for themes of a source without
#'   SDMX, or an unknown theme; `vetusta_error_access`, `_network`, `_payload`
#'   as in collecting.
#' @export
#' @examples
#' \dontrun{
#' basin <- source_card("basin")
#' datasets_find(basin, "lock traffic")
#' datasets_themes(basin)
#' datasets_describe(basin, "LOCK_TRAFFIC")
#' }
datasets_find <- function(source, words = NULL, theme = NULL, language = "en",
                          archive = NULL, free = FALSE) {
  check_flag(free, "free")
  check_source_kind(source)
  if (!is.null(words)) check_text(words, "words", several = TRUE)
  datasets <- rbind(
    card_datasets(source, words, theme),
    if (speaks_sdmx(source)) {
      matching_flows(source, words, theme, language, archive)
    }
  )
  datasets <- datasets[datasets$score > 0, ]
  if (free) datasets <- datasets[!datasets$cost %in% "paid", ]
  as_rows(datasets[order(-datasets$score, datasets$dataset), ])
}

# The datasets of a card by name, title and shape. They have no themes.
card_datasets <- function(source, words, theme) {
  known <- source$datasets
  n <- length(known)
  title <- vapply(known, function(dataset) dataset$title %||% NA_character_, "")
  shape <- vapply(known, function(dataset) dataset$shape, "")
  texts <- lapply(seq_len(n), function(i) {
    list(
      id = gsub("[_-]", " ", names(known)[i]),
      title = list(en = title[[i]], source = source$title),
      description = list(
        en = paste(shape[[i]], paste(names(known[[i]]$columns), collapse = " "))
      ),
      theme = NULL
    )
  })
  score <- rep(if (is.null(theme)) 1 else 0, n)
  if (!is.null(words) && n) {
    score <- score * vapply(texts, find_score, 1, words = find_words(words))
  }
  none <- rep(NA_character_, n)
  data.frame(
    source = rep(source$source, n),
    dataset = as.character(names(known)),
    title = unname(title),
    shape = unname(shape),
    theme = none,
    description = none,
    version = none,
    cost = vapply(known, function(x) dataset_cost(source, x)$cost, ""),
    plan = vapply(known, function(x) dataset_cost(source, x)$plan, ""),
    score = score
  )
}

# What a dataset costs: by its own words, else by those of its source.
dataset_cost <- function(source, dataset = NULL) {
  cost <- dataset$cost %||% source$cost %||% NA_character_
  list(
    cost = if (is.list(cost)) "paid" else cost,
    plan = if (is.list(cost)) cost$plan else NA_character_
  )
}

matching_flows <- function(source, words, theme, language, archive) {
  flows <- all_flows(source, archive)
  tree <- theme_tree(source, archive)
  id <- vapply(flows, `[[`, "", "id")
  placed <- function(id) tree$placed$category[tree$placed$flow == id]
  score <- rep(1, length(flows))
  if (!is.null(words)) {
    texts <- lapply(seq_along(flows), function(i) {
      paths <- placed(id[i])
      themes <- unlist(
        lapply(
          tree$categories,
          function(group) if (any(startsWith(paths, group$path))) group$names
        )
      )
      list(
        id = gsub("_", " ", id[i]),
        title = flows[[i]]$names,
        description = flows[[i]]$descriptions,
        theme = themes
      )
    })
    score <- vapply(texts, find_score, 1, words = find_words(words))
  }
  if (!is.null(theme)) {
    paths <- vapply(tree$categories, `[[`, "", "path")
    if (!any(startsWith(paths, theme))) check_choice(theme, "theme", paths)
    score[
      !vapply(id, function(name) any(startsWith(placed(name), theme)), TRUE)
    ] <-
      0
  }
  data.frame(
    source = rep(source$source, length(flows)),
    dataset = id,
    title = vapply(flows, function(flow) in_language(flow$names, language), ""),
    shape = rep("observations", length(flows)),
    theme = vapply(id, function(name) paste(placed(name), collapse = ", "), ""),
    description = vapply(
      flows, function(flow) in_language(flow$descriptions, language), ""
    ),
    version = vapply(flows, function(flow) flow$version %||% NA_character_, ""),
    cost = rep(dataset_cost(source)$cost, length(flows)),
    plan = rep(dataset_cost(source)$plan, length(flows)),
    score = score,
    row.names = NULL
  )
}

find_words <- function(words) {
  words <- as.character(
    unlist(strsplit(tolower(paste(words, collapse = " ")), "[^[:alnum:]]+"))
  )
  words[nzchar(words)]
}

# A whole word in the title or identifier counts most, the start of a word half.
# Every word must occur.
find_score <- function(text, words) {
  weight <- c(id = 3, title = 3, theme = 1.5, description = 1)
  each <- vapply(
    words,
    function(word) {
      max(
        0,
        vapply(
          names(weight),
          function(place) {
            tokens <- find_words(text[[place]])
            if (!length(tokens)) {
              return(0)
            }
            if (word %in% tokens) {
              weight[[place]]
            } else if (any(startsWith(tokens, word))) {
              weight[[place]] * 0.5
            } else if (nchar(word) > 3 &&
              any(utils::adist(word, tokens)[1, ] <= 1)) {
              weight[[place]] * 0.25
            } else {
              0
            }
          },
          1
        )
      )
    },
    1
  )
  if (any(each == 0)) 0 else sum(each)
}

in_language <- function(texts, language) label_in(as.list(texts), language)

all_flows <- function(source, archive) {
  document <- structure_get(
    source, sdmx_structure_url(source, "dataflow"), archive,
    paste0("source ", source$source, ", its dataflows")
  )
  if (is.null(document) || !length(document$flows)) {
    vetusta_stop(
      "argument",
      paste0(
        "The source ", source$source, " lists no datasets of the agency ",
        source$sdmx$agency, "."
      ),
      where = source$file, todo = "correct agency: in the card"
    )
  }
  document$flows
}

# Categories and the dataflows in them; a service may have none.
theme_tree <- function(source, archive) {
  ask <- function(kind, references) {
    tryCatch(
      structure_get(
        source, sdmx_structure_url(source, kind, references = references),
        archive, paste0("source ", source$source, ", its themes")
      ),
      vetusta_error_payload = function(e) NULL
    )
  }
  scheme <- ask("categoryscheme", "none")
  placed <- ask("categorisation", "none")
  list(
    categories = scheme$categories %||% list(),
    placed = placed$categorisations %||%
      data.frame(flow = character(), category = character())
  )
}

#' @rdname datasets_find
#' @return `datasets_themes()`: a tibble of `theme` (the path), `title`,
#'   `level`, `datasets` (the number below it), in the order of the tree.
#' @export
datasets_themes <- function(source, language = "en", archive = NULL) {
  check_sdmx(source)
  tree <- theme_tree(source, archive)
  paths <- vapply(tree$categories, `[[`, "", "path")
  as_rows(data.frame(
    theme = paths,
    title = vapply(
      tree$categories, function(branch) in_language(branch$names, language), ""
    ),
    level = lengths(strsplit(paths, ".", fixed = TRUE)),
    datasets = vapply(
      paths,
      function(path) {
        length(
          unique(
            tree$placed$flow[
              tree$placed$category == path |
                startsWith(tree$placed$category, paste0(path, "."))
            ]
          )
        )
      },
      1L,
      USE.NAMES = FALSE
    )
  ))
}
