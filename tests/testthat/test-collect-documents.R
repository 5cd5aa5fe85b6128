# Documents behind links: each fetched once, with its hash, and links to other
# hosts.
documents_server <- function(env = parent.frame()) {
  start_scripted(
    function(n, request) {
      path <- request$PATH_INFO
      if (!identical(request$HTTP_X_KEY, "a-key-of-the-desk")) {
        return(list(status = 401L, headers = list(), body = "no"))
      }
      if (grepl("gone", path)) {
        return(list(status = 404L, headers = list(), body = "no"))
      }
      if (grepl("elsewhere", path)) {
        return(
          list(
            status = 302L,
            headers = list(Location = "http://127.0.0.2:9/x"),
            body = ""
          )
        )
      }
      body <- charToRaw(strrep(paste("report of", path, "\n"), 2000))
      if (grepl("slow", path) && is.null(request$HTTP_RANGE)) {
        # a wrong length breaks the download
        return(
          list(
            status = 200L,
            headers = list(ETag = "\"one\"", "Content-Length" = "999999"),
            body = body[1:5000]
          )
        )
      }
      from <- as.numeric(
        sub("bytes=([0-9]+)-", "\\1", request$HTTP_RANGE %||% "bytes=0-")
      )
      list(
        status = if (from > 0) 206L else 200L,
        headers = list(
          ETag = "\"one\"",
          "Content-Range" = sprintf(
            "bytes %d-%d/%d", from, length(body) - 1L, length(body)
          )
        ),
        body = body[(from + 1):length(body)]
      )
    },
    env = env
  )
}
documents_source <- function(url, extra = character(), env = parent.frame()) {
  source_card(
    write_card(
      url, c("request: /r", "rows: /r", "columns: {link: /link}"),
      c("access: {by: header, name: X-Key, secret: MILL_KEY}", extra), env = env
    )
  )
}
filing <- function(link, title, symbol = "KELD") {
  data.frame(
    symbol = symbol, filed = as.Date("2026-03-11"), title = title, link = link
  )
}

test_that("documents are fetched into files that tell what they are, once", {
  withr::local_envvar(MILL_KEY = "a-key-of-the-desk")
  url <- documents_server()
  source <- documents_source(url)
  archive <- new_archive()
  folder <- file.path(withr::local_tempdir(), "a", "b")
  rows <- rbind(
    filing("/d/one.pdf", "Annual report"),
    filing(paste0(url, "/d/two"), "Annual report"),
    filing("/d/../one?x=1", "\u00dc: \"../../x\" | <y>", "../K"),
    filing("/d/gone", "Gone"),
    filing("https://data.example.org/x.pdf", "Away"),
    filing("/elsewhere", "Led away"), filing("/d/one.pdf", "The same again")
  )
  done <- collect_documents(
    source, rows, folder, archive, "rows", progress = FALSE
  )
  expect_identical(
    done$outcome,
    c("fetched", "fetched", "fetched", "failed", "failed", "failed")
  )
  expect_identical(
    done$file[1:2],
    c("KELD-2026-03-11-Annual-report.pdf", "KELD-2026-03-11-Annual-report.html")
  )
  expect_match(done$file[3], "^[A-Za-z0-9][A-Za-z0-9._-]*$")
  expect_setequal(
    list.files(folder, all.files = TRUE, no.. = TRUE), done$file[1:3]
  )
  expect_match(
    done$message[4:6], "HTTP 404|leads elsewhere|redirects to another place"
  )
  # the hash equals that of another program
  own <- processx::run("sha256sum", file.path(folder, done$file[1]))$stdout
  expect_identical(done$sha256[1], sub(" .*", "", trimws(own)))
  requests <- nrow(archive_journal(archive))
  expect_false(any(grepl("a-key-of", unlist(archive_journal(archive)))))
  again <- collect_documents(
    source, rows[1:3, ], folder, archive, "rows", progress = FALSE
  )
  expect_identical(again$outcome, rep("stored", 3))
  expect_identical(nrow(archive_journal(archive)), requests)
  cat("x", file = file.path(folder, done$file[1]), append = TRUE)
  unlink(file.path(folder, done$file[2]))
  expect_setequal(
    archive_documents(archive, "test", "rows", folder)$state,
    c("changed", "gone", "whole")
  )
  mended <- collect_documents(
    source, rows[1:3, ], folder, archive, "rows", progress = FALSE
  )
  expect_identical(mended$outcome, c("fetched", "fetched", "stored"))
  expect_true(
    all(archive_documents(archive, "test", "rows", folder)$state == "whole")
  )
})

test_that("a broken download resumes, elsewhere without the key", {
  withr::local_envvar(MILL_KEY = "a-key-of-the-desk")
  archive <- new_archive()
  folder <- withr::local_tempdir()
  source <- documents_source(documents_server())
  done <- collect_documents(
    source, filing("/slow", "Slow"), folder, archive, "rows", progress = FALSE
  )
  expect_identical(done$outcome, "fetched")
  expect_identical(
    readBin(file.path(folder, done$file), "raw", 1e6),
    charToRaw(strrep("report of /slow \n", 2000))
  )
  other <- start_scripted(function(n, request) {
    list(
      status = 200L,
      headers = list(),
      body = request$HTTP_X_KEY %||% "no key came"
    )
  })
  followed <- documents_source("http://127.0.0.1:9", "elsewhere: follow")
  done <- collect_documents(
    followed, filing(paste0(other, "/x.txt"), "Away"), folder, archive, "rows",
    progress = FALSE
  )
  expect_identical(
    readLines(file.path(folder, done$file), warn = FALSE), "no key came"
  )
})

test_that("a moved service gives its documents under their names once", {
  withr::local_envvar(MILL_KEY = "a-key-of-the-desk")
  archive <- new_archive()
  folder <- withr::local_tempdir()
  first <- collect_documents(
    documents_source(documents_server()), filing("/d/one.pdf", "One"), folder,
    archive, "rows", progress = FALSE
  )
  moved <- documents_source(documents_server())
  again <- collect_documents(
    moved, filing("/d/one.pdf", "One"), folder, archive, "rows",
    progress = FALSE
  )
  expect_identical(again$outcome, "stored")
  expect_identical(again$file, first$file)
})

test_that("wrong arguments of fetching are refused", {
  withr::local_envvar(MILL_KEY = "a-key-of-the-desk")
  archive <- new_archive()
  source <- documents_source("http://127.0.0.1:9")
  fetch <- function(rows, folder = withr::local_tempdir()) {
    collect_documents(source, rows, folder, archive, progress = FALSE)
  }
  expect_error_kind(fetch(data.frame(a = 1)), "argument", "no column \"link\"")
  expect_error_kind(
    fetch(filing("/a", "x"), "/proc/none/such"), "export", "cannot be made"
  )
  withr::local_envvar(MILL_KEY = NA)
  expect_error_kind(fetch(filing("/a", "x")), "secret", "MILL_KEY")
})

test_that("a list of links opens in browser and spreadsheet safely", {
  rows <- data.frame(
    title = c("Annual <report>", "=1+1", NA),
    link = c("https://data.example.org/a?x=1&y=2", "javascript:alert(1)", NA),
    n = 1:3
  )
  page <- withr::local_tempfile(fileext = ".html")
  export_links(rows, page, "Filings & more")
  html <- xml2::read_html(page)
  links <- xml2::xml_find_all(html, "//a")
  expect_identical(
    xml2::xml_attr(links, "href"), "https://data.example.org/a?x=1&y=2"
  )
  expect_identical(
    xml2::xml_text(xml2::xml_find_first(html, "//h1")), "Filings & more"
  )
  expect_length(xml2::xml_find_all(html, "//tbody/tr"), 3)
  expect_length(xml2::xml_find_all(html, "//script|//link|//img"), 0)
  expect_error_kind(
    export_links(rows, withr::local_tempfile(fileext = ".csv")), "export", "csv"
  )
  expect_error_kind(export_links(1, page), "export")
  skip_if_not_installed("openxlsx2")
  book <- withr::local_tempfile(fileext = ".xlsx")
  export_links(rows[1, ], book)
  folder <- withr::local_tempdir()
  utils::unzip(book, exdir = folder)
  sheet <- paste(
    readLines(
      file.path(folder, "xl", "worksheets", "sheet1.xml"), warn = FALSE
    ),
    collapse = ""
  )
  rels <- list.files(
    file.path(folder, "xl", "worksheets", "_rels"), full.names = TRUE
  )
  told <- paste(
    sheet, paste(unlist(lapply(rels, readLines, warn = FALSE)), collapse = "")
  )
  expect_match(told, "https://data.example.org/a?x=1&amp;y=2", fixed = TRUE)
  expect_match(sheet, "<hyperlink", fixed = TRUE)
})

test_that("two processes fetch each document once, complete", {
  folder <- withr::local_tempdir()
  answer <- function(n, request) {
    cat(
      request$PATH_INFO,
      "\n",
      file = file.path(folder, "calls"),
      append = TRUE
    )
    Sys.sleep(0.2)
    list(
      status = 200L,
      headers = list(),
      body = strrep(paste("of", request$PATH_INFO, "\n"), 50000)
    )
  }
  environment(answer) <- list2env(list(folder = folder), parent = globalenv())
  card <- write_card(
    start_scripted(answer),
    c("request: /r", "rows: /r", "columns: {link: /link}")
  )
  archive <- new_archive()
  code <- sprintf(
    paste(
      "library(vetusta); a <- archive_open('%s'); done <- collect_documents(",
      "source_card('%s'), data.frame(link = paste0('/d', 1:6,",
      "'.txt')), '%s', a, 'rows',", "progress = FALSE); cat(done$outcome)"
    ),
    archive$path, card, file.path(folder, "papers")
  )
  running <- lapply(1:2, function(i) {
    processx::process$new(
      "Rscript",
      c("--no-init-file", "-e", code),
      stdout = "|",
      stderr = "|",
      env = c("current", R_LIBS = r_libs())
    )
  })
  for (process in running) process$wait(60000)
  said <- vapply(running, function(process) process$read_all_output(), "")
  expect_no_match(said, "failed")
  expect_identical(anyDuplicated(readLines(file.path(folder, "calls"))), 0L)
  held <- archive_documents(
    archive, "test", "rows", file.path(folder, "papers")
  )
  expect_identical(held$state, rep("whole", 6))
  for (i in 1:6) {
    file <- file.path(
      folder, "papers", held$file[held$link == paste0("/d", i, ".txt")]
    )
    expect_identical(
      readChar(file, 1e7), strrep(paste0("of /d", i, ".txt \n"), 50000)
    )
  }
})
