# Access to a service: the words of `access`, and what each kind requires.

# The hash functions of signatures, and the parts of the signed text.
signature_hashes <- c(
  sha256 = "sha256", sha512 = "sha512", sha1 = "sha1", md5 = "md5"
)

signature_parts <- c(
  "method", "url", "origin", "path", "query", "body", "body_hash", "time",
  "nonce", "id"
)

access_grammar <- function() {
  c(
    list(
      by = c(
        "!word", "none", "query", "path", "header", "bearer", "basic", "pair",
        "token", "login", "form-login", "signature"
      )
    ),
    access_parts()
  )
}

access_parts <- function() {
  list(
    name = "line",
    prefix = "line",
    secret = "text",
    names = "texts",
    secrets = "texts",
    user = "text",
    password = "text",
    url = "text",
    grant = c("word", "password", "client_credentials", "authorization_code"),
    page = "text",
    redirect = "text",
    keep = "flag",
    client = "text",
    client_secret = "text",
    assertion = "text",
    scope = "text",
    send_client = c("word", "form", "basic"),
    lasts = "duration",
    other_origin = "flag",
    body = "text",
    at = "pointer",
    ends = "pointer",
    id = "text",
    text = "text",
    key = c("word", "text", "hex", "base64"),
    hash = c("word", names(signature_hashes)),
    write = c("word", "hex", "base64"),
    time = c("word", instant_types, "local", "text"),
    written = "text",
    headers = list(.each = "line"),
    parameters = list(.each = "line")
  )
}

# Required words of each kind of access.
access_needs <- list(
  none = character(),
  query = c("name", "secret"),
  path = c("name", "secret"),
  header = c("name", "secret"),
  bearer = "secret",
  basic = c("user", "password"),
  pair = c("names", "secrets"),
  token = c("url", "grant"),
  login = c("url", "at", "name"),
  "form-login" = c("url", "body"),
  signature = c("secret", "text")
)

# Kinds of access whose token may expire.
is_token_access <- function(access) {
  access$by %in% c("token", "login", "form-login")
}

# The parts of an access that name secrets.
access_secret_parts <- c(
  "secret", "secrets", "user", "password", "client", "client_secret",
  "assertion", "id"
)

card_check_access <- function(access, place) {
  for (part in setdiff(access_needs[[access$by]], names(access))) {
    vetusta_stop(
      "card",
      paste0("Access by ", access$by, " lacks \"", part, "\"."),
      where = place("access"),
      todo = paste0(
        "add ", part, ": to access, with ",
        if (part %in% access_secret_parts) {
          "the name of its variable"
        } else {
          "its value"
        }
      )
    )
  }
  if (identical(access$by, "pair") &&
    (length(access$names) != 2 || length(access$secrets) != 2)) {
    vetusta_stop(
      "card", "Access by pair takes two names and two secrets.",
      where = place("access"), todo = "write names: [A, B] and secrets: [C, D]"
    )
  }
  card_check_signature(access, place)
  card_check_login(access, place)
  for (name in access_secrets(access)) {
    if (!grepl("^[A-Za-z_][A-Za-z0-9_]*$", name)) {
      vetusta_stop(
        "card",
        paste0(
          "The card contains a value that looks like a secret: name the ",
          "secret, do not write it."
        ),
        where = place("access"),
        todo = paste0(
          "write the name of an environment variable, such as QUAY_KEY, ",
          "and put the ", "value there or into desk.env"
        )
      )
    }
  }
}

# A login with a consent page needs the page, and a place for its answer.
card_check_login <- function(access, place) {
  if (!identical(access$grant, "authorization_code")) {
    return(invisible())
  }
  for (part in setdiff(c("page", "client", "redirect"), names(access))) {
    vetusta_stop(
      "card",
      paste0("Access by an authorization code lacks \"", part, "\"."),
      where = place("access"),
      todo = paste0(
        "add ", part, ": ",
        c(
          page = "the URL of the consent page",
          client = "the name of the variable with the client's id",
          redirect = paste0(
            "the redirect URL that the client is registered with, as ",
            "http://127.0.0.1:8765/done"
          )
        )[[part]]
      )
    )
  }
}

# A signature needs a place in the request, and only known parts.
card_check_signature <- function(access, place) {
  if (access$by != "signature") {
    return(invisible())
  }
  sent <- c(access$headers, access$parameters)
  if (!any(grepl("{signature}", unlist(sent), fixed = TRUE))) {
    vetusta_stop(
      "card", "Access by signature has no place for the signature.",
      where = place("access"),
      todo = paste0(
        "write headers: {X-Signature: \"{signature}\"}, or ",
        "parameters: with it"
      )
    )
  }
  used <- template_variables(
    paste(c(access$text, unlist(sent)), collapse = " ")
  )
  known <- c(signature_parts, "signature")
  wrong <- setdiff(used, known)
  if (length(wrong)) {
    vetusta_stop(
      "card",
      paste0("The signature knows no {", wrong[1], "}."),
      where = place("access"),
      todo = suggest_word(wrong[1], known)
    )
  }
  if ("id" %in% used && is.null(access$id)) {
    vetusta_stop(
      "card", "The signature uses {id}, and access names no id.",
      where = place("access"),
      todo = "add id: to access, with the name of its variable"
    )
  }
}
