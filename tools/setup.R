# Sets up what is missing: system libraries and R packages.
#
#   Rscript tools/setup.R run|test|develop|format|site [FILE]
#
# The path of the library is written into FILE.
#
# Installed packages in a sufficient version are left alone. For missing ones,
# Debian's prebuilt packages are used if this process may install them (root, or
# sudo without a password), R is Debian's, and the version suffices; all others
# are compiled from CRAN into a library of the user.
#
# VETUSTA_LIBRARY  where that library is (default: the user's data folder)
# VETUSTA_PREBUILT no: compile everything from CRAN, whatever Debian has
# VETUSTA_ONLY     yes: use only packages in VETUSTA_LIBRARY and in R itself

purposes <- c("run", "test", "develop", "format", "site")
arguments <- commandArgs(TRUE)
purpose <- if (length(arguments)) arguments[1] else "run"
if (!purpose %in% purposes) {
  stop(
    "tools/setup.R takes one of: ", paste(purposes, collapse = ", "),
    call. = FALSE
  )
}

say <- function(...) cat("[setup] ", ..., "\n", sep = "", file = stderr())
fail <- function(...) {
  say(...)
  quit(status = 1, save = "no")
}
is_yes <- function(name, default) {
  identical(tolower(Sys.getenv(name, default)), "yes")
}

library_path <- Sys.getenv("VETUSTA_LIBRARY")
if (!nzchar(library_path)) {
  library_path <- file.path(
    tools::R_user_dir("vetusta", "data"), "library",
    paste0("R-", getRversion()[1, 1:2])
  )
}
dir.create(library_path, recursive = TRUE, showWarnings = FALSE)
library_path <- normalizePath(library_path)
ready <- function() {
  if (length(arguments) > 1) writeLines(library_path, arguments[2])
  quit(status = 0, save = "no")
}
only_own <- is_yes("VETUSTA_ONLY", "no")
libraries <- unique(c(library_path, if (only_own) .Library else .libPaths()))
.libPaths(libraries, include.site = !only_own)

# --- what is needed
# ---

# Names and minimum versions of a field such as: a (>= 1.0), b
requirements <- function(fields) {
  items <- trimws(unlist(strsplit(fields[!is.na(fields)], ",")))
  items <- items[nzchar(items)]
  names <- sub("[[:space:](].*", "", items)
  versions <- ifelse(
    grepl("(", items, fixed = TRUE),
    sub(".*\\([>=< ]*([^)]*)\\).*", "\\1", items), "0"
  )
  keep <- !names %in%
    c("R", rownames(installed.packages(.Library, priority = "base")))
  stats::setNames(trimws(versions[keep]), names[keep])
}

description <- read.dcf("DESCRIPTION")
field <- function(name) {
  if (name %in% colnames(description)) description[1, name] else NA_character_
}
wanted <- requirements(
  c(
    field("Imports"), field("LinkingTo"),
    if (purpose != "run") field("Suggests"),
    if (purpose == "develop") field("Config/vetusta/develop"),
    if (purpose == "format") "styler",
    if (purpose == "site") "pkgdown, rmarkdown"
  )
)

installed <- function() {
  found <- installed.packages(
    libraries,
    fields = c("Imports", "Depends", "LinkingTo"),
    noCache = TRUE
  )
  found[!duplicated(found[, "Package"]), , drop = FALSE]
}
enough <- function(have, need) utils::compareVersion(have, need) >= 0

# All dependencies of the wanted packages that are missing or too old: name ->
# minimum version.
missing_from <- function(wanted, present, offered = NULL,
                         prebuilt = character()) {
  need <- character()
  queue <- wanted
  missing <- character()
  while (length(queue)) {
    name <- names(queue)[1]
    version <- queue[[1]]
    queue <- queue[-1]
    if (name %in% names(need) && enough(need[[name]], version)) next
    need[[name]] <- version
    if (name %in% rownames(present) &&
      enough(present[name, "Version"], version)) {
      queue <- c(queue, requirements(present[name, c("Imports", "Depends")]))
      next
    }
    missing[[name]] <- version
    if (name %in% names(prebuilt) && enough(prebuilt[[name]], version)) next
    if (!is.null(offered)) {
      if (!name %in% rownames(offered)) {
        fail("CRAN does not offer the package ", name, ", which is needed.")
      }
      if (!enough(offered[name, "Version"], version)) {
        fail("CRAN's ", name, " is older than ", version, ".")
      }
      queue <- c(
        queue, requirements(offered[name, c("Imports", "Depends", "LinkingTo")])
      )
    }
  }
  missing
}

todo <- missing_from(wanted, installed())
if (!length(todo)) {
  if (interactive() || nzchar(Sys.getenv("VETUSTA_SAY"))) {
    say("everything is there already")
  }
  ready()
}
started <- Sys.time()
say("missing or too old: ", paste(names(todo), collapse = ", "))

# --- what this process may do ---

run <- function(command, arguments, log, ...) {
  status <- suppressWarnings(
    system2(command, arguments, stdout = log, stderr = log, ...)
  )
  identical(as.integer(status), 0L)
}
tail_of <- function(log, lines = 20) {
  if (file.exists(log)) {
    paste0("    ", tail(readLines(log, warn = FALSE), lines))
  }
}
stop_with_log <- function(what, log) {
  say(what, " failed; the last lines of its log:")
  writeLines(tail_of(log), stderr())
  quit(status = 1, save = "no")
}

logs <- file.path(tempdir(), "logs")
dir.create(logs, showWarnings = FALSE)
has <- function(program) nzchar(Sys.which(program))
is_root <- identical(Sys.info()[["effective_user"]], "root")
as_root <- if (is_root) character() else "sudo"
may_install <- has("apt-get") &&
    (is_root ||
        (has("sudo") && run("sudo", c("-n", "true"), file.path(logs, "sudo"))))
use_prebuilt <- may_install &&
    !only_own &&
    is_yes("VETUSTA_PREBUILT", "yes") &&
    identical(normalizePath(R.home()), "/usr/lib/R")

apt <- function(arguments, log) {
  command <- c(
    as_root, "env", "DEBIAN_FRONTEND=noninteractive", "apt-get", "-q", "-y",
    arguments
  )
  run(command[1], command[-1], file.path(logs, log))
}
lists_are_fresh <- FALSE
refresh_lists <- function() {
  if (lists_are_fresh) return(invisible())
  say("reading Debian's package lists")
  if (!apt("update", "apt-update")) {
    stop_with_log("apt-get update", file.path(logs, "apt-update"))
  }
  lists_are_fresh <<- TRUE
}

# Debian's version of each r-cran-* package, without epoch and Debian's suffix.
prebuilt_versions <- function(names) {
  lines <- suppressWarnings(
    system2(
      "apt-cache", c("policy", paste0("r-cran-", tolower(names))),
      stdout = TRUE, stderr = FALSE
    )
  )
  heads <- grep("^r-cran-", lines)
  found <- character()
  for (i in heads) {
    candidate <- sub(".*Candidate: *", "", lines[i + 2])
    if (grepl("none", candidate)) next
    package <- names[
      match(sub("^r-cran-(.*):$", "\\1", lines[i]), tolower(names))
    ]
    found[[package]] <- sub(
      "[-+][^-]*$", "", sub("[+~]dfsg.*", "", sub("^[0-9]+:", "", candidate))
    )
  }
  found
}

# --- plan, then do
# ---

repositories <- getOption("repos")
if (is.null(repositories) || any(repositories == "@CRAN@")) {
  utils::chooseCRANmirror(graphics = FALSE, ind = 1)
}
say("reading CRAN's package list")
offered <- tryCatch(
  suppressWarnings(available.packages()),
  error = function(e) NULL
)
if (is.null(offered) || !nrow(offered)) {
  fail(
    paste0(
      "CRAN cannot be reached, and packages are missing. Connect this ",
      "machine to a ", "network, or set a mirror with "
    ),
    "options(repos = c(CRAN = \"...\")) in ~/.Rprofile, and run it again."
  )
}
prebuilt <- character()
if (use_prebuilt) {
  refresh_lists()
  prebuilt <- prebuilt_versions(
    names(missing_from(wanted, installed(), offered))
  )
}
todo <- missing_from(wanted, installed(), offered, prebuilt)
from_debian <- names(todo)[names(todo) %in% names(prebuilt)]
from_debian <- Filter(
  function(name) enough(prebuilt[[name]], todo[[name]]), from_debian
)

if (length(from_debian)) {
  say("installing prebuilt from Debian: ", paste(from_debian, collapse = ", "))
  if (!apt(
    c(
      "install", "--no-install-recommends",
      paste0("r-cran-", tolower(from_debian))
    ),
    "apt-install"
  )) {
    stop_with_log("apt-get install", file.path(logs, "apt-install"))
  }
}

todo <- missing_from(wanted, installed(), offered)
system_libraries <- list(
  curl = c("libcurl4-openssl-dev", "libcurl"),
  openssl = c("libssl-dev", "libssl"),
  xml2 = c("libxml2-dev", "libxml-2.0"),
  httpuv = c("zlib1g-dev", "zlib"),
  websocket = c("libssl-dev", "libssl"),
  RPostgres = c("libpq-dev", "libpq")
)
system_libraries <- system_libraries[names(system_libraries) %in% names(todo)]
known_to_compiler <- function(entry) {
  has("pkg-config") &&
    run("pkg-config", c("--exists", entry[2]), file.path(logs, "pkg-config"))
}
absent <- Filter(function(entry) !known_to_compiler(entry), system_libraries)
debian_names <- unname(vapply(absent, `[`, "", 1))
if (length(absent) && may_install) {
  refresh_lists()
  say(
    "installing system libraries from Debian: ",
    paste(c("pkg-config", debian_names), collapse = ", ")
  )
  if (!apt(
    c("install", "--no-install-recommends", "pkg-config", debian_names),
    "apt-libraries"
  )) {
    stop_with_log("apt-get install", file.path(logs, "apt-libraries"))
  }
} else if (length(absent)) {
  # Not root: the same Debian packages are unpacked into a folder of the user,
  # and the compiler uses that folder.
  if (!has("apt-get") || !has("dpkg-deb")) {
    fail(
      "these system libraries are missing and this user cannot install them: ",
      paste(debian_names, collapse = ", ")
    )
  }
  root <- file.path(dirname(library_path), "system")
  state <- file.path(root, "apt")
  for (folder in c("lists/partial", "cache/archives/partial", "debs")) {
    dir.create(file.path(state, folder), recursive = TRUE, showWarnings = FALSE)
  }
  say(
    "no right to install system libraries: unpacking ",
    paste(debian_names, collapse = ", "), " into ", root
  )
  own <- c(
    "-o", paste0("Dir::State::lists=", state, "/lists"), "-o",
    paste0("Dir::Cache=", state, "/cache"), "-q"
  )
  log <- file.path(logs, "apt-download")
  if (!run("apt-get", c(own, "update"), log)) {
    stop_with_log("apt-get update", log)
  }
  runtime <- c(
    "libcurl4-openssl-dev" = "libcurl4", "libssl-dev" = "libssl3",
    "libxml2-dev" = "libxml2", "zlib1g-dev" = "zlib1g", "libpq-dev" = "libpq5"
  )
  tools_too <- if (!has("pkg-config")) {
    c("pkgconf", "pkgconf-bin", "libpkgconf3", "pkg-config")
  }
  here <- setwd(file.path(state, "debs"))
  got <- run(
    "apt-get",
    c(own, "download", debian_names, runtime[debian_names], tools_too), log
  )
  setwd(here)
  if (!got) stop_with_log("apt-get download", log)
  for (deb in list.files(
    file.path(state, "debs"), "[.]deb$", full.names = TRUE
  )) {
    if (!run("dpkg-deb", c("-x", deb, root), log)) {
      stop_with_log(paste("unpacking", basename(deb)), log)
    }
  }
  machine <- list.files(file.path(root, "usr", "lib"), "-linux-gnu")[1]
  machine_folder <- file.path(root, "usr", "lib", machine)
  Sys.setenv(
    PKG_CONFIG_SYSROOT_DIR = root,
    PKG_CONFIG_PATH = file.path(machine_folder, "pkgconfig"),
    PATH = paste(file.path(root, "usr", "bin"), Sys.getenv("PATH"), sep = ":"),
    LD_LIBRARY_PATH = paste(
      c(machine_folder, Sys.getenv("LD_LIBRARY_PATH")), collapse = ":"
    ),
    LIBRARY_PATH = machine_folder,
    CPATH = paste(
      file.path(root, "usr", "include"),
      file.path(root, "usr", "include", machine), sep = ":"
    )
  )
}

if (length(todo)) {
  cores <- max(1L, parallel::detectCores(), na.rm = TRUE)
  say(
    "compiling from CRAN on ", cores, " cores into ", library_path, ": ",
    paste(names(todo), collapse = ", ")
  )
  outputs <- file.path(logs, "compile")
  dir.create(outputs, showWarnings = FALSE)
  # packages that bundle a library need no system library
  Sys.setenv(
    USE_BUNDLED_LIBUV = "1",
    MAKEFLAGS = paste0("-j", cores),
    R_LIBS = paste(libraries, collapse = ":")
  )
  log <- file.path(logs, "install")
  connection <- file(log, "w")
  sink(connection, type = "message")
  sink(connection)
  suppressWarnings(
    try(
      install.packages(
        names(todo), lib = library_path, dependencies = NA, Ncpus = cores,
        keep_outputs = outputs, quiet = TRUE
      ),
      silent = TRUE
    )
  )
  sink()
  sink(type = "message")
  close(connection)
  left <- missing_from(wanted, installed())
  # optional packages of tests are left out if they cannot be built: the tests
  # are skipped and counted
  needed <- requirements(
    c(
      field("Imports"), field("LinkingTo"),
      if (purpose != "run") "testthat, withr",
      if (purpose == "develop") field("Config/vetusta/develop")
    )
  )
  if (length(left) && !length(missing_from(needed, installed()))) {
    say(
      "could not be installed, and what needs them is skipped: ",
      paste(names(left), collapse = ", ")
    )
    left <- character()
  }
  if (length(left)) {
    compiled <- sub("[.]out$", "", list.files(outputs, "[.]out$"))
    spoilt <- Filter(
      function(name) {
        any(
          grepl(
            "^ERROR",
            readLines(file.path(outputs, paste0(name, ".out")), warn = FALSE)
          )
        )
      },
      compiled
    )
    first <- c(
      spoilt, Filter(function(name) name %in% compiled, names(left)),
      names(left)
    )[1]
    package_log <- file.path(outputs, paste0(first, ".out"))
    say("not installed: ", paste(names(left), collapse = ", "))
    stop_with_log(
      paste("installing", first),
      if (file.exists(package_log)) package_log else log
    )
  }
}
say(
  "done in ", round(as.numeric(Sys.time() - started, units = "mins"), 1),
  " minutes"
)
ready()
