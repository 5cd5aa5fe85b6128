# Builds the site of README, docs/, vignettes and help pages in site/.
#
#   Rscript tools/site.R
#
# It works on a copy, because pkgdown takes pages from the folder of vignettes.
if (!requireNamespace("pkgdown", quietly = TRUE)) {
  stop(
    "the package pkgdown is missing: install.packages(\"pkgdown\")",
    call. = FALSE
  )
}
copy <- tempfile("site")
dir.create(copy)
file.copy(
  c(
    "DESCRIPTION", "NAMESPACE", "NEWS.md", "README.md", "R", "man", "src",
    "inst", "vignettes", "docs", "_pkgdown.yml", "LICENSE"
  ),
  copy,
  recursive = TRUE
)
pages <- list.files("docs", "[.]md$")
articles <- file.path(copy, "vignettes", "articles")
dir.create(articles)
for (page in pages) {
  lines <- readLines(file.path("docs", page))
  title <- sub("^# ", "", lines[1])
  # code of pages is shown here, and run by the tests
  lines <- sub("^```r$", "```{r, eval = FALSE}", lines[-1])
  lines <- gsub("\\(([a-z-]+)[.]md(#[a-z-]+)?\\)", "(\\1.html\\2)", lines)
  writeLines(
    c("---", paste0("title: \"", title, "\""), "---", lines),
    file.path(articles, sub("[.]md$", ".Rmd", page))
  )
}
file.copy(file.path("docs", "screenshots"), articles, recursive = TRUE)
unlink(file.path(copy, "docs"), recursive = TRUE)
readme <- file.path(copy, "README.md")
lines <- readLines(readme)
lines <- gsub(
  "\\(docs/([a-z-]+)[.]md(#[a-z-]+)?\\)", "(articles/\\1.html\\2)", lines
)
lines <- gsub("\\(vignettes/([a-z-]+)[.]Rmd\\)", "(articles/\\1.html)", lines)
# pictures of the first page are taken from this folder only
figures <- file.path(copy, "man", "figures")
dir.create(figures)
file.copy(list.files("docs/screenshots", full.names = TRUE), figures)
lines <- gsub("docs/screenshots/", "man/figures/", lines, fixed = TRUE)
writeLines(lines, readme)
yml <- yaml::read_yaml(file.path(copy, "_pkgdown.yml"))
yml$destination <- "site"
yml$articles <- c(
  list(
    list(
      title = "Pages",
      contents = as.list(paste0("articles/", sub("[.]md$", "", pages)))
    )
  ),
  yml$articles
)
yaml::write_yaml(yml, file.path(copy, "_pkgdown.yml"))
# the site is built without the network, and words in braces are no packages
options(pkgdown.internet = FALSE)
utils::assignInNamespace(
  "CRAN_urls", function() data.frame(Package = character(), URL = character()),
  "downlit"
)
pkgdown::build_site(
  copy,
  examples = FALSE, preview = FALSE, new_process = FALSE, devel = FALSE
)
unlink("site", recursive = TRUE)
file.copy(file.path(copy, "site"), ".", recursive = TRUE)
message("site/index.html")
