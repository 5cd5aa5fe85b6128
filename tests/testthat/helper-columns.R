# A column store of the tests: two servers that are the shards of one cluster,
# in a folder of their own, on free ports; one pair per test file.

columns_config <- function(folder, http, native, ports, between, keeper = NULL,
                           number = 1) {
  one <- function(port) {
    paste0("<replica><host>127.0.0.1</host><port>", port, "</port></replica>")
  }
  shard <- function(replicas) {
    paste0(
      "<shard><internal_replication>true</internal_replication>", replicas,
      "</shard>"
    )
  }
  # two servers are two shards, or, with a ZooKeeper, two replicas of one shard
  shards <- if (is.null(keeper)) {
    paste0(shard(one(ports)), collapse = "")
  } else {
    shard(paste0(one(ports), collapse = ""))
  }
  writeLines(
    c(
      "<yandex>",
      paste0(
        "<logger><level>warning</level><log>", folder, "/log</log>",
        "<errorlog>", folder, "/errors</errorlog></logger>"
      ),
      paste0(
        "<http_port>", http, "</http_port><tcp_port>", native, "</tcp_port>"
      ),
      paste0(
        "<interserver_http_host>127.0.0.1</interserver_http_host>",
        "<interserver_http_port>", between, "</interserver_http_port>"
      ),
      "<listen_host>127.0.0.1</listen_host>",
      paste0(
        "<path>", folder, "/data/</path><tmp_path>", folder, "/tmp/</tmp_path>"
      ),
      "<mark_cache_size>67108864</mark_cache_size>",
      paste0("<users_config>", folder, "/users.xml</users_config>"),
      paste0(
        "<default_profile>default</default_profile><default_database>",
        "default</default_database>"
      ),
      "<timezone>UTC</timezone>",
      paste0("<remote_servers><pair>", shards, "</pair></remote_servers>"),
      if (!is.null(keeper)) {
        paste0(
          "<zookeeper><node><host>127.0.0.1</host><port>", keeper,
          "</port></node></zookeeper><macros><shard>1</shard><replica>r",
          number, "</replica></macros>"
        )
      },
      "</yandex>"
    ),
    file.path(folder, "config.xml")
  )
  user <- function(name, password, profile) {
    paste0(
      "<", name, "><password>", password,
      "</password><networks><ip>127.0.0.1</ip></networks>", "<profile>",
      profile, "</profile><quota>default</quota></", name, ">"
    )
  }
  writeLines(
    c(
      paste0(
        "<yandex><profiles><default><max_memory_usage>2000000000</",
        "max_memory_usage>"
      ),
      "</default><reading><readonly>1</readonly></reading></profiles>",
      paste0(
        "<users>", user("default", "", "default"),
        user("keeper", "pass word:1", "default"),
        user("looker", "", "reading"), "</users>"
      ),
      "<quotas><default></default></quotas></yandex>"
    ),
    file.path(folder, "users.xml")
  )
}

# A ZooKeeper of the tests; returns its port.
keeper_server <- function(env = parent.frame()) {
  jar <- "/usr/share/java/zookeeper.jar"
  testthat::skip_if_not(
    nzchar(Sys.which("java")) && file.exists(jar), "there is no ZooKeeper"
  )
  folder <- withr::local_tempdir(.local_envir = env)
  port <- httpuv::randomPort(host = "127.0.0.1")
  writeLines(
    c(
      "tickTime=2000", paste0("dataDir=", folder, "/data"),
      paste0("clientPort=", port), "clientPortAddress=127.0.0.1",
      "admin.enableServer=false"
    ),
    file.path(folder, "zoo.cfg")
  )
  process <- processx::process$new(
    "java",
    c(
      "-Xmx256m", "-cp", jar,
      "org.apache.zookeeper.server.quorum.QuorumPeerMain",
      file.path(folder, "zoo.cfg")
    ),
    stdout = NULL, stderr = NULL
  )
  withr::defer(process$kill(), envir = env)
  for (try in 1:150) {
    up <- tryCatch(
      {
        close(
          suppressWarnings(
            socketConnection("127.0.0.1", port, open = "r+", timeout = 2)
          )
        )
        TRUE
      },
      error = function(e) FALSE
    )
    if (up) return(port)
    Sys.sleep(0.2)
  }
  testthat::skip("ZooKeeper does not start here")
}

columns_server <- function(env = parent.frame(), keeper = NULL, folder = NULL) {
  testthat::skip_if_not(
    nzchar(Sys.which("clickhouse-server")), "there is no ClickHouse"
  )
  if (is.null(folder)) folder <- withr::local_tempdir(.local_envir = env)
  ports <- integer()
  while (length(unique(ports)) < 6) {
    ports <- c(ports, httpuv::randomPort(host = "127.0.0.1"))
  }
  ports <- unique(ports)
  native <- ports[3:4]
  one <- lapply(1:2, function(i) {
    home <- file.path(folder, i)
    for (part in c("data", "tmp")) {
      dir.create(file.path(home, part), recursive = TRUE)
    }
    columns_config(home, ports[i], native[i], native, ports[4 + i], keeper, i)
    shard <- new.env()
    shard$url <- paste0("http://127.0.0.1:", ports[i])
    shard$start <- function() {
      shard$process <- processx::process$new(
        "clickhouse-server", paste0("--config-file=", home, "/config.xml"),
        stdout = NULL, stderr = NULL
      )
      for (try in 1:100) {
        up <- tryCatch(
          curl::curl_fetch_memory(shard$url)$status_code == 200,
          error = function(e) FALSE
        )
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
    rawToChar(curl::curl_fetch_memory(one[[server]]$url, handle)$content)
  }
  list(shards = one, sql = sql, uri = function(database, cluster = FALSE) {
    servers <- if (cluster) {
      paste0(one[[1]]$url, ",", sub("http://", "", one[[2]]$url))
    } else {
      one[[1]]$url
    }
    paste0(servers, "/", database, if (cluster) "?cluster=pair")
  })
}

columns_here <- new.env()
columns_shared <- function() {
  if (is.null(columns_here$server)) {
    columns_here$server <- columns_server(testthat::teardown_env())
  }
  columns_here$server
}

# A fresh database on both servers, by its URL.
columns_database <- function(cluster = FALSE, server = columns_shared()) {
  columns_here$count <- (columns_here$count %||% 0) + 1
  name <- paste0("d", columns_here$count)
  for (i in 1:2) server$sql(paste("CREATE DATABASE", name), i)
  server$uri(name, cluster)
}

# An archive whose rows move to the column store after every page.
store_put.eager_store <- function(store, page) {
  result <- NextMethod()
  vetusta:::columns_shift(store)
  result
}

columns_archive <- function(env = parent.frame(), cluster = FALSE,
                            eager = TRUE, path = NULL,
                            server = columns_shared()) {
  uri <- columns_database(cluster, server)
  archive <- archive_open(
    path %||% withr::local_tempfile(fileext = ".sqlite", .local_envir = env),
    columns = uri
  )
  withr::defer(archive_close(archive), envir = env)
  if (eager) {
    registerS3method(
      "store_put", "eager_store", store_put.eager_store, asNamespace("vetusta")
    )
    class(archive) <- c("eager_store", class(archive))
  }
  archive
}
