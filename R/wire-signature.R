# A request signed from its parts and the time: an HMAC (RFC 2104) of a text
# that the card describes, sent in headers or parameters.

with_signature <- function(request, source, now = as.numeric(Sys.time())) {
  access <- source$access
  parts <- signature_values(request, source, now)
  signature <- sign_text(
    fill_text(access$text, parts), signature_key(source),
    access$hash %||% "sha256", access$write %||% "hex"
  )
  parts$signature <- signature
  for (name in names(access$headers)) {
    request$headers[[name]] <- fill_text(access$headers[[name]], parts)
  }
  for (name in names(access$parameters)) {
    request$url <- with_parameter(
      request$url, name, fill_text(access$parameters[[name]], parts)
    )
  }
  request
}

# Other parameters of the signature are part of the signed query.
signature_values <- function(request, source, now) {
  access <- source$access
  parts <- list(
    method = request$method %||% "GET",
    body = request$body %||% "",
    time = write_instant(
      utc(now), access$time %||% "epoch-ms", source$zone, access$written
    ),
    nonce = signature_nonce()
  )
  if (!is.null(access$id)) parts$id <- secret_value(source, access$id)
  url <- request$url
  for (name in names(access$parameters)) {
    if (!grepl("{signature}", access$parameters[[name]], fixed = TRUE)) {
      url <- with_parameter(
        url, name, fill_text(access$parameters[[name]], parts)
      )
    }
  }
  url <- sub("#.*", "", url)
  parts$url <- url
  parts$origin <- sub("^(https?://[^/?]*).*$", "\\1", url)
  parts$path <- sub("^https?://[^/?]*", "", sub("[?].*", "", url))
  parts$query <- if (grepl("?", url, fixed = TRUE)) {
    sub("^[^?]*[?]", "", url)
  } else {
    ""
  }
  parts$body_hash <- digest::digest(
    parts$body, access$hash %||% "sha256",
    serialize = FALSE
  )
  parts
}

# Never repeated, and independent of R's random numbers, which may be seeded.
signature_nonce <- function() {
  substr(
    digest::digest(
      paste(format(Sys.time(), "%OS6"), Sys.getpid(), tempfile()), "sha256",
      serialize = FALSE
    ),
    1, 24
  )
}

# The secret's text, or the bytes that it encodes in hex or base64.
signature_key <- function(source) {
  secret <- secret_value(source, source$access$secret)
  key <- switch(source$access$key %||% "text",
    text = charToRaw(enc2utf8(secret)),
    hex = if (grepl("^([0-9A-Fa-f]{2})+$", secret)) {
      as.raw(
        strtoi(
          substring(secret, seq(1, nchar(secret), 2), seq(2, nchar(secret), 2)),
          16L
        )
      )
    },
    base64 = if (grepl("^[A-Za-z0-9+/_-]+=*$", secret)) {
      jsonlite::base64_dec(chartr("-_", "+/", secret))
    }
  )
  if (!length(key)) {
    vetusta_stop(
      "secret",
      paste0(
        "The secret ", source$access$secret, " is not written in ",
        source$access$key, "."
      ),
      where = paste0(source$file, ", access"),
      todo = "set it again as the service gave it, or correct key: in access"
    )
  }
  key
}

sign_text <- function(text, key, hash, write) {
  # as bytes, because the encoding of a text would change its signature
  raw <- digest::hmac(
    key,
    charToRaw(enc2utf8(text)),
    algo = signature_hashes[[hash]],
    serialize = FALSE,
    raw = TRUE
  )
  if (write == "hex") {
    paste(as.character(raw), collapse = "")
  } else {
    gsub("\n", "", jsonlite::base64_enc(raw), fixed = TRUE)
  }
}

# Replaces {parts} of a text once; values are not searched again.
fill_text <- function(text, parts) {
  pieces <- regmatches(text, gregexpr("\\{[a-z_]+\\}", text), invert = NA)[[1]]
  name <- substr(pieces, 2, nchar(pieces) - 1)
  known <- grepl("^\\{.*\\}$", pieces) & name %in% names(parts)
  pieces[known] <-
    vapply(name[known], function(key) as.character(parts[[key]]), "")
  paste(pieces, collapse = "")
}
