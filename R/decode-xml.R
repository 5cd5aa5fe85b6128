# XML answers, read with the pointers of JSON: an element is an object of its
# attributes and children, children of one name are an array, and an element
# with text alone is a text. Prefixes of namespaces are left out.

# `lists` are pointers whose elements are arrays also where there is one.
xml_as_json <- function(body, where, lists = character()) {
  document <- read_plain_xml(body, where)
  nodes <- xml2::xml_find_all(document, "//*")
  counts <- xml2::xml_length(nodes)
  attributes <- xml2::xml_attrs(nodes)
  texts <- rep("", length(nodes))
  leaf <- which(counts == 0)
  texts[leaf] <- xml_trimmed(nodes[leaf])
  xml_json_cpp(
    sub("^.*:", "", xml2::xml_name(nodes)), counts, texts,
    lapply(attributes, xml_plain_names),
    unique(sub("^.*/", "", lists[nzchar(lists)]))
  )
}

# Declarations of namespaces are no members.
xml_plain_names <- function(values) {
  if (!length(values)) {
    return(NULL)
  }
  values <- values[!grepl("^xmlns(:|$)", names(values))]
  names(values) <- sub("^.*:", "", names(values))
  if (length(values)) values
}
