# Replacing files: written beside the target, flushed to disk, then renamed, so
# that either the old or the new file exists, never half of one.

# `write` is given a path beside `file`. The target must be an ordinary file or
# not exist: a device or pipe would be replaced by a file, and someone else's
# link leads where they want.
write_whole <- function(file, write, kind = "export", mode = NULL) {
  target <- whole_target(file, kind)
  beside <- beside_file(target)
  on.exit(unlink(beside))
  fail <- function(why) {
    vetusta_stop(
      kind,
      paste0(
        "The file cannot be written", if (nzchar(why)) paste0(": ", why), "."
      ),
      where = file,
      todo = paste0(
        "check the permissions of its folder and the room on the disk; what ",
        "was there ", "is as before"
      )
    )
  }
  reason <- other_errors(
    withCallingHandlers(
      {
        write(beside)
        ""
      },
      warning = function(w) invokeRestart("muffleWarning")
    ),
    function(e) plain_reason(conditionMessage(e))
  )
  if (nzchar(reason)) fail(reason)
  if (!file.exists(beside)) fail("")
  reason <- file_sync_cpp(beside)
  if (nzchar(reason)) fail(reason)
  if (is.null(mode)) {
    mode <- if (file.exists(target)) {
      file.mode(target)
    } else {
      as.octmode("666") & !as.octmode(Sys.umask(NA))
    }
  }
  Sys.chmod(beside, mode, use_umask = FALSE)
  if (!suppressWarnings(file.rename(beside, target))) fail("")
  invisible(file)
}

# Lines of text as a whole file.
write_lines_whole <- function(lines, file, kind = "export", mode = NULL) {
  bytes <- charToRaw(
    paste0(paste(enc2utf8(lines), collapse = "\n"), if (length(lines)) "\n")
  )
  write_whole(
    file,
    function(path) {
      reason <- file_write_cpp(path, bytes, strtoi("600", 8L))
      if (nzchar(reason)) stop(reason)
    },
    kind, mode
  )
}

plain_reason <- function(text) {
  known <- regmatches(
    text,
    regexpr(
      paste0(
        "No space left on device|Permission denied|Read-only file ",
        "system|No such file or ", "directory|Disk quota exceeded"
      ),
      text
    )
  )
  if (length(known)) tolower(known) else sub("\n.*", "", trimws(text))
}

# The file to replace: the path itself, or the target of the user's own link.
whole_target <- function(file, kind) {
  if (!dir.exists(dirname(file))) {
    vetusta_stop(
      kind, "The folder of the file does not exist.",
      where = dirname(file),
      todo = "create it, or give another path"
    )
  }
  path <- path.expand(file)
  for (step in 1:20) {
    file_kind <- file_kind_cpp(path)
    if (file_kind$type %in% c("none", "file")) {
      return(path)
    }
    if (file_kind$type == "folder") {
      vetusta_stop(
        kind, "The path is a folder.",
        where = file,
        todo = "give the path of a file"
      )
    }
    if (file_kind$type == "other") {
      vetusta_stop(
        kind,
        "The path is a device or a pipe, which cannot be replaced.",
        where = file,
        todo = "give the path of a file, or leave it out for standard output"
      )
    }
    if (!file_kind$own) {
      vetusta_stop(
        kind, "The path is a link of another user.",
        where = file, todo = "give the path of the file itself"
      )
    }
    link <- Sys.readlink(path)
    path <- if (startsWith(link, "/")) link else file.path(dirname(path), link)
  }
  vetusta_stop(
    kind, "The path is a circular link.",
    where = file,
    todo = "give the path of the file itself"
  )
}
