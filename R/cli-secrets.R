cli_secrets <- function(arguments) {
  options <- cli_arguments(
    arguments, "secrets", "list|check|set NAME|login SOURCE",
    c(cli_place_options()[1], cli_json_option()),
    c(
      "vetusta secrets list", "echo \"the-key\" | vetusta secrets set QUAY_KEY",
      "vetusta secrets login mill"
    ),
    least = 1, most = 2
  )
  desk <- cli_desk(options)
  task <- options$words[1]
  if (task == "set") {
    if (length(options$words) != 2) {
      cli_usage_error(
        paste0(
          "set needs the secret's name; its value is read from standard ",
          "input, so that it ", "is not in the shell's history"
        )
      )
    }
    value <- readLines(cli_typed(), n = 1, warn = FALSE)
    desk_secret(desk, options$words[2], value)
    return(
      cli_say(
        "set ", options$words[2], " in ", file.path(desk$folder, "desk.env")
      )
    )
  }
  if (task == "login") {
    return(cli_login(desk, options$words))
  }
  if (!task %in% c("list", "check")) {
    cli_usage_error(
      "\"", task, "\" cannot be done with secrets; ",
      suggest_word(task, c("list", "check", "set", "login"))
    )
  }
  rows <- desk_secrets(desk)
  if (options$json) {
    cli_print_json(rows)
  } else {
    cli_print_table(rows, "the desk's sources need no secret")
  }
  if (task == "check" && any(rows$from == "not set")) {
    cli_say(
      "not set: ",
      paste(unique(rows$secret[rows$from == "not set"]), collapse = ", "),
      "\n  to do: vetusta secrets set NAME, or set the environment variable"
    )
    return(1L)
  }
  0L
}

# A login with a consent page. Where the redirect is not on this machine, the
# code is typed.
cli_login <- function(desk, words) {
  if (length(words) != 2) cli_usage_error("login needs the name of a source")
  source <- desk_source(desk, words[2])
  redirect <- source$access$redirect %||% ""
  by_browser <- startsWith(redirect, "http:") &&
    is_loopback(curl::curl_parse_url(redirect)$host)
  typed <- if (!by_browser) {
    function(url) {
      cat(
        "open this URL in a browser, and agree:\n  ", url,
        "\nthe code, or the URL at the end: ",
        sep = "", file = stderr()
      )
      readLines(cli_typed(), n = 1, warn = FALSE)
    }
  }
  until <- source_login(source, typed)
  cli_say(
    "logged in to ", source$source, "; the token is kept in ",
    tokens_path(source), " and valid until ", format_instant(until)
  )
}
