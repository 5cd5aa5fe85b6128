# Every command and every line of R in the README and in docs/*.md, unchanged,
# in a folder of its own.
readme_blocks <- function(root, file = "README.md") {
  lines <- readLines(file.path(root, file))
  fence <- grepl("^```", lines)
  inside <- cumsum(fence) %% 2 == 1
  language <- lines[fence][pmax(1, cumsum(fence))]
  list(
    commands = trimws(
      sub(
        "#.*", "", lines[!inside & grepl("^    (vetusta|cat|R_LIBS) ", lines)]
      )
    ),
    r = lines[inside & !fence & language == "```r"]
  )
}

# The words of a line that is a single command of vetusta, as a shell splits
# them; NULL for other lines, which a shell runs.
vetusta_words <- function(line) {
  if (!grepl("^vetusta ", line) ||
    grepl("[|;&<>$`]|^vetusta (demo|services|browse)", line)) {
    return(NULL)
  }
  out <- processx::run(
    "sh", c("-c", paste0("vetusta() { printf '%s\\n' \"$@\"; }; ", line))
  )
  strsplit(out$stdout, "\n", fixed = TRUE)[[1]]
}

test_that("the README's lines run as they stand", {
  root <- project_root_of_readme()
  blocks <- readme_blocks(root)
  folder <- withr::local_tempdir()
  bin <- file.path(folder, "bin")
  dir.create(bin)
  writeLines(
    c(
      "#!/bin/sh",
      sprintf(
        paste0(
          "R_LIBS='%s' R_DEFAULT_PACKAGES=NULL exec Rscript ",
          "--no-init-file --no-restore -e ", "'vetusta::cli_main()' \"$@\""
        ),
        r_libs()
      )
    ),
    file.path(bin, "vetusta")
  )
  Sys.chmod(file.path(bin, "vetusta"), "755")
  path <- c("current", PATH = paste(bin, Sys.getenv("PATH"), sep = ":"))
  run <- function(line, wd = folder) {
    words <- vetusta_words(line)
    if (is.null(words)) {
      return(
        processx::run(
          "sh", c("-c", line), wd = wd, env = path, error_on_status = FALSE,
          timeout = 300
        )
      )
    }
    withr::local_dir(wd)
    run_inside(words)
  }
  demo <- run("vetusta demo demo-desk")
  expect_identical(demo$status, 0L, label = demo$stderr)
  desk <- file.path(folder, "demo-desk")
  services <- processx::process$new(
    "vetusta",
    c("services", "--desk", desk, "--port", "0", "--seconds", "3000"),
    wd = folder, env = path, stdout = "|", stderr = "|", cleanup_tree = TRUE
  )
  withr::defer(services$kill())
  text <- character()
  while (services$is_alive() && !any(grepl("_KEY=", text))) {
    services$poll_io(500)
    text <- c(text, services$read_output_lines())
  }
  file.copy(system.file("extdata", "keld-days.csv", package = "vetusta"), desk)
  expect_gte(length(blocks$commands), 5)
  served <- all(
    vapply(c("shiny", "bslib"), requireNamespace, TRUE, quietly = TRUE)
  )
  commands <- blocks$commands[!grepl("^R_LIBS", blocks$commands)]
  for (line in commands[served | !grepl("vetusta browse", commands)]) {
    out <- run(line, desk)
    expect_identical(out$status, 0L, label = paste0(line, "\n", out$stderr))
    expect_false(grepl("internal error", out$stderr), label = line)
  }
  script <- file.path(folder, "readme.R")
  writeLines(blocks$r, script)
  out <- processx::run(
    "Rscript",
    c("--no-init-file", script),
    wd = folder,
    env = c("current", R_LIBS = r_libs()),
    error_on_status = FALSE
  )
  expect_identical(out$status, 0L, label = out$stderr)
  expect_match(out$stdout, "requests")
  # pages of docs, in the desk's folder, or in its parent folder if they use
  # --desk demo-desk
  for (file in list.files(file.path(root, "docs"), "[.]md$")) {
    page <- readme_blocks(root, file.path("docs", file))
    for (line in page$commands[
      !grepl(
        if (served) "^vetusta services" else "^vetusta (services|browse)",
        page$commands
      )
    ]) {
      out <- run(line, if (grepl("--desk demo-desk", line)) folder else desk)
      expect_identical(
        out$status,
        0L,
        label = paste0(file, ": ", line, "\n", out$stderr)
      )
    }
    if (!length(page$r)) next
    writeLines(page$r, script)
    out <- processx::run(
      "Rscript",
      c("--no-init-file", script),
      wd = desk,
      env = c("current", R_LIBS = r_libs()),
      error_on_status = FALSE
    )
    expect_identical(out$status, 0L, label = paste0(file, "\n", out$stderr))
  }
})
