# Damaged rows are put back, from kept pages as they were, or from the source.
repaired_archive <- function(archive, services, raw) {
  source <- source_card("quay", url = services$url)
  for (interval in c("1 hour", "1 day")) {
    query <- query_bars(
      source, c("KELD", "ASH"), interval,
      from = "2026-02-02", to = "2026-03-20"
    )
    collect_run(
      plan_requests(query, archive), archive,
      progress = FALSE, raw = raw
    )
  }
  source
}
all_rows <- function(archive) {
  lapply(archive_read(archive, releases = TRUE), as.data.frame)
}
coverage_of <- function(archive) {
  vetusta:::sql_get(
    archive, "SELECT * FROM coverage ORDER BY source, dataset, key, start"
  )
}

for (raw in c(TRUE, FALSE)) {
  from <- c("source", "pages")[raw + 1]
  test_that(paste("a damaged segment comes from", from), {
    services <- start_services()
    quay_key()
    folder <- withr::local_tempdir()
    path <- file.path(folder, "archive.sqlite")
    archive <- archive_open(path)
    withr::defer(archive_close(archive))
    source <- repaired_archive(archive, services, raw)
    before <- all_rows(archive)
    covered <- coverage_of(archive)
    expect_identical(format(collect_repair(archive)), "nothing to repair")
    body <- vetusta:::sql_get(
      archive, "SELECT id, body FROM segments ORDER BY id LIMIT 1"
    )
    bytes <- body$body[[1]]
    at <- length(bytes) - 20
    bytes[at] <- xor(bytes[at], as.raw(255))
    vetusta:::sql_do(
      archive, "UPDATE segments SET body = ? WHERE id = ?",
      list(list(bytes), body$id)
    )
    expect_error_kind(archive_read(archive), "archive")
    # without its source nothing can be done, and nothing is
    none <- collect_repair(archive, dry = FALSE)
    expect_identical(none$by, "nothing")
    expect_identical(none$outcome, NA_character_)
    sources <- list(quay = source)
    plan <- collect_repair(archive, sources)
    expect_identical(plan$by, from)
    expect_identical(plan$requests > 0, !raw)
    expect_true(is.na(plan$outcome))
    expect_error_kind(archive_read(archive), "archive")
    # a repair that stops, or whose source is away, goes on later
    local({
      local_instead("repairers", list(
        pages = function(...) stop("killed"), source = function(...) {
          vetusta:::vetusta_stop("network", "Nothing answers.", todo = "wait")
        }
      ))
      if (raw) {
        expect_error(collect_repair(archive, sources, dry = FALSE), "killed")
      } else {
        expect_warning(
          stopped <- collect_repair(archive, sources, dry = FALSE),
          "Nothing answers"
        )
        expect_identical(stopped$outcome, "incomplete")
      }
    })
    expect_identical(collect_repair(archive, sources)$by, plan$by)
    done <- collect_repair(archive, sources, dry = FALSE, progress = FALSE)
    expect_identical(done$outcome, "as before")
    expect_identical(nrow(collect_repair(archive)), 0L)
    expect_identical(all_rows(archive), before)
    expect_identical(nrow(archive_check(archive)), 0L)
    expect_equal(coverage_of(archive), covered)
    expect_null(attr(done, "kept"))
  })
}

test_that("altered, added and removed rows of a column store are put back", {
  services <- start_services()
  quay_key()
  withr::local_dir(withr::local_tempdir())
  changes <- c(
    "ALTER TABLE %s UPDATE close = 77.77 WHERE volume > 1000",
    "ALTER TABLE %s DELETE WHERE volume > 1000",
    paste(
      "INSERT INTO %s (series, time, known, stamp, wide, close)",
      "SELECT series, time + 1000000, known, stamp, wide, close FROM %1$s"
    )
  )
  for (i in seq_along(changes)) {
    archive <- columns_archive()
    raw <- i %% 2 == 0
    source <- repaired_archive(archive, services, raw)
    archive_compact(archive)
    before <- all_rows(archive)
    covered <- coverage_of(archive)
    columns <- archive$columns
    vetusta:::columns_do(columns, sprintf(
      changes[i], vetusta:::columns_table(columns, "bars", FALSE)
    ))
    vetusta:::columns_settled(columns, "bars")
    expect_false(all(archive_check(archive)$what != "column"))
    done <- collect_repair(
      archive, list(quay = source),
      dry = FALSE, progress = FALSE
    )
    expect_setequal(done$outcome, "as before")
    expect_setequal(done$why, c("altered", "removed", "added")[i])
    expect_setequal(done$by, c("source", "pages")[raw + 1])
    archive_compact(archive)
    expect_identical(nrow(archive_check(archive)), 0L)
    expect_identical(all_rows(archive), before)
    expect_equal(coverage_of(archive), covered)
    # the rows as they were found; of the removed ones there were none
    kept <- attr(done, "kept")
    expect_identical(is.null(kept), i == 2)
    if (i == 1) {
      expect_true(77.77 %in% nanoparquet::read_parquet(kept)$close)
    }
  }
})
