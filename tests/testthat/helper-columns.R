# A column store of the tests' own: two servers that are the shards of one cluster, in a folder of
# their own, on free ports, one pair for each file of tests, ended with them.

columns_config <- function(folder, http, native, ports) {
  shards <- paste0("<shard><internal_replication>true</internal_replication><replica><host>",
    "127.0.0.1</host><port>", ports, "</port></replica></shard>", collapse = "")
  writeLines(c("<yandex>", paste0("<logger><level>warning</level><log>", folder, "/log</log>",
    "<errorlog>", folder, "/errors</errorlog></logger>"),
    paste0("<http_port>", http, "</http_port><tcp_port>", native, "</tcp_port>"),
    "<listen_host>127.0.0.1</listen_host>", paste0("<path>", folder, "/data/</path><tmp_path>",
      folder, "/tmp/</tmp_path>"), "<mark_cache_size>67108864</mark_cache_size>",
    paste0("<users_config>", folder, "/users.xml</users_config>"),
    "<default_profile>default</default_profile><default_database>default</default_database>",
    "<timezone>UTC</timezone>",
    paste0("<remote_servers><pair>", shards, "</pair></remote_servers>"),
    "</yandex>"), file.path(folder, "config.xml"))
  user <- function(name, password, profile) {
    paste0("<", name, "><password>", password, "</password><networks><ip>127.0.0.1</ip></networks>",
      "<profile>", profile, "</profile><quota>default</quota></", name, ">")
  }
  writeLines(c("<yandex><profiles><default><max_memory_usage>2000000000</max_memory_usage>",
    "</default><reading><readonly>1</readonly></reading></profiles>", paste0("<users>",
      user("default", "", "default"), user("keeper", "pass word:1", "default"),
      user("looker", "", "reading"), "</users>"),
    "<quotas><default></default></quotas></yandex>"), file.path(folder, "users.xml"))
}

columns_server <- function(env = parent.frame()) {
  testthat::skip_if_not(nzchar(Sys.which("clickhouse-server")), "there is no ClickHouse")
  folder <- withr::local_tempdir(.local_envir = env)
  http <- integer()
  while (length(unique(http)) < 4) http <- c(http, httpuv::randomPort(host = "127.0.0.1"))
  http <- unique(http)
  native <- http[3:4]
  one <- lapply(1:2, function(i) {
    home <- file.path(folder, i)
    for (part in c("data", "tmp")) dir.create(file.path(home, part), recursive = TRUE)
    columns_config(home, http[i], native[i], native)
    shard <- new.env()
    shard$address <- paste0("http://127.0.0.1:", http[i])
    shard$start <- function() {
      shard$process <- processx::process$new("clickhouse-server", paste0("--config-file=", home,
        "/config.xml"), stdout = NULL, stderr = NULL)
      for (try in 1:100) {
        up <- tryCatch(curl::curl_fetch_memory(shard$address)$status_code == 200,
          error = function(e) FALSE)
        if (up) return(TRUE)
        Sys.sleep(0.2)
      }
      FALSE
    }
    withr::defer(if (!is.null(shard$process)) shard$process$kill(), envir = env)
    testthat::skip_if_not(shard$start(), "ClickHouse does not start here")
    shard
  })
  sql <- function(statement, server = 1) {
    handle <- curl::new_handle(postfields = statement)
    rawToChar(curl::curl_fetch_memory(one[[server]]$address, handle)$content)
  }
  list(shards = one, sql = sql, uri = function(database, cluster = FALSE) {
    servers <- if (cluster) paste0(one[[1]]$address, ",", sub("http://", "", one[[2]]$address))
    else one[[1]]$address
    paste0(servers, "/", database, if (cluster) "?cluster=pair")
  })
}

columns_here <- new.env()
columns_shared <- function() {
  if (is.null(columns_here$server)) columns_here$server <- columns_server(testthat::teardown_env())
  columns_here$server
}

# A fresh database on both servers, by its address.
columns_database <- function(cluster = FALSE, server = columns_shared()) {
  columns_here$count <- (columns_here$count %||% 0) + 1
  name <- paste0("d", columns_here$count)
  for (i in 1:2) server$sql(paste("CREATE DATABASE", name), i)
  server$uri(name, cluster)
}

# An archive whose rows go over after every page.
store_put.eager_store <- function(store, page) {
  result <- NextMethod()
  vetusta:::columns_shift(store)
  result
}

columns_archive <- function(env = parent.frame(), cluster = FALSE, eager = TRUE, path = NULL) {
  uri <- columns_database(cluster)
  archive <- archive_open(path %||% withr::local_tempfile(fileext = ".sqlite", .local_envir = env),
    columns = uri)
  withr::defer(archive_close(archive), envir = env)
  if (eager) {
    registerS3method("store_put", "eager_store", store_put.eager_store, asNamespace("vetusta"))
    class(archive) <- c("eager_store", class(archive))
  }
  archive
}
