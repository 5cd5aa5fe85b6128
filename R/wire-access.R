# The credential of a call: put on at the last moment, and only for the source's own origin.

wire_signed <- function(request, source, tokens = new.env(parent = emptyenv())) {
  request$headers <- utils::modifyList(request$headers, as.list(source$headers))
  if (is.list(request$body)) {
    request$body <- request_body(request)
    request$address <- sub("#.*", "", request$address)
  }
  access <- source$access
  if (access$by == "none" || !same_origin(request$address, source$address)) {
    return(request)
  }
  secret <- function(part, i = 1) reveal(source_secret(source, access[[part]][[i]]))
  switch(access$by,
    query = request$address <- with_parameter(request$address, access$name, secret("secret")),
    header = request$headers[[access$name]] <- paste0(access$prefix, secret("secret")),
    bearer = request$headers[["Authorization"]] <- paste("Bearer", secret("secret")),
    basic = request$headers[["Authorization"]] <- basic_words(secret("user"), secret("password")),
    pair = for (i in 1:2) request$headers[[access$names[[i]]]] <- secret("secrets", i),
    token = request$headers[["Authorization"]] <- paste("Bearer", access_token(source, tokens)),
    login = request$headers[[access$name]] <- paste0(access$prefix, access_token(source, tokens)),
    signature = request <- with_signature(request, source)
  )
  request
}
