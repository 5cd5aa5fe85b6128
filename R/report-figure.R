# A figure in a page: SVG with the values for the pointer.

report_figure <- function(figure, id, zone) {
  drawn <- figure_svg(figure, 1080, 560, zone)
  title <- paste(
    c(figure$labels$title, figure$labels$subtitle),
    collapse = "; "
  )
  # ids of several figures in one page must differ
  if (sum(nchar(drawn$svg)) > 3e5) {
    return(report_picture(figure, id, title))
  }
  svg <- gsub(
    "(\\bid=[\"']|href=[\"']#|url\\(#)", paste0("\\1", id, "-"), drawn$svg,
    perl = TRUE
  )
  svg[1] <- sub(
    "<svg ",
    paste0("<svg role=\"img\" aria-label=\"", html_text(title), "\" "), svg[1],
    fixed = TRUE
  )
  c(
    paste0(
      "<figure id=\"", id, "\" class=\"drawn\" tabindex=\"0\" data-title=\"",
      html_text(figure$labels$title %||% ""), "\">"
    ),
    svg, "<figcaption class=\"readout\" aria-live=\"polite\"></figcaption>",
    if (!is.null(drawn$points)) {
      c("<script type=\"application/json\">", drawn$points, "</script>")
    },
    "</figure>"
  )
}

# A figure with very many parts is smaller as a bitmap.
report_picture <- function(figure, id, title) {
  file <- tempfile(fileext = ".png")
  on.exit(unlink(file))
  figure_save(figure, file, 1620, 840, 144)
  bytes <- jsonlite::base64_enc(readBin(file, "raw", file.size(file)))
  c(
    paste0(
      "<figure id=\"", id, "\" class=\"drawn\"><img alt=\"", html_text(title),
      "\" src=\"data:image/png;base64,", gsub("\n", "", bytes, fixed = TRUE),
      "\"></figure>"
    )
  )
}

# list(svg, points): the lines of an SVG, and JSON of its panels and values, for
# figures of lines.
figure_svg <- function(figure, width, height, zone) {
  file <- tempfile(fileext = ".svg")
  on.exit(unlink(file))
  built <- ggplot2::ggplot_build(figure)
  if (requireNamespace("svglite", quietly = TRUE)) {
    svglite::svglite(file, width / 96, height / 96)
  } else {
    grDevices::svg(file, width / 96, height / 96)
  }
  places <- tryCatch(
    {
      draw_built(built)
      panel_places()
    },
    finally = grDevices::dev.off()
  )
  svg <- readLines(file, warn = FALSE, encoding = "UTF-8")
  svg <- svg[seq(grep("<svg", svg)[1], length(svg))]
  list(svg = svg, points = figure_points_shown(figure, built, places, zone))
}

# The place of each panel, in points from the left and the top, row by row.
panel_places <- function() {
  names <- unname(panel_names(grid::current.vpTree()))
  height <- grDevices::dev.size("in")[2]
  places <- lapply(names, function(name) {
    grid::upViewport(0)
    grid::seekViewport(name)
    at <- grid::current.transform()
    size <- c(
      grid::convertWidth(grid::unit(1, "npc"), "in", TRUE),
      grid::convertHeight(grid::unit(1, "npc"), "in", TRUE)
    )
    grid::upViewport(0)
    72 * c(at[3, 1], height - at[3, 2] - size[2], size)
  })
  corner <- function(i) round(vapply(places, `[`, 0, i))
  places[order(corner(2), corner(1))]
}

panel_names <- function(tree) {
  panel <- if (grepl("^panel", tree$name %||% "")) tree$name
  c(panel, unlist(lapply(as.list(tree$children), panel_names)))
}

# Values by series and panel, with their place on the page.
figure_points_shown <- function(figure, built, places, zone) {
  data <- attr(figure, "points") %||% figure$data
  if (!all(c("name", "at", "shown", "time") %in% names(data)) ||
    !length(places)) {
    return(NULL)
  }
  names <- unique(as.character(data$name))
  panelled <- length(places) > 1
  if (length(names) > 12 || (panelled && length(places) < length(names))) {
    return(NULL)
  }
  colours <- line_colours$light
  parts <- lapply(seq_along(names), function(i) {
    points <- data[as.character(data$name) == names[i], , drop = FALSE]
    number <- if (panelled) i else 1
    range <- built$layout$panel_params[[number]]
    place <- places[[number]]
    x <- place[1] +
      place[3] * (points$at - range$x.range[1]) / diff(range$x.range)
    piece <- points[["piece"]]
    c(
      list(
        name = names[i],
        panel = number,
        colour = colours[[1 + (i - 1) %% length(colours)]],
        x = I(round(x, if (length(x) > 2000) 3 else 1)),
        time = I(report_times(points$time, zone)),
        value = I(signif(points$shown, 8)),
        status = if (!all(points$status == "observed")) {
          I(ifelse(points$status == "observed", "", points$status))
        },
        breaks = I(which(diff(c(piece, piece[length(piece)])) != 0))
      ),
      lapply(candle_parts(points), I)
    )
  })
  parts <- lapply(parts, function(part) part[!vapply(part, is.null, TRUE)])
  as.character(
    jsonlite::toJSON(
      list(
        panels = lapply(places, round, 1),
        log = figure_is_log(built),
        colours = unname(way_colours$light),
        series = parts
      ),
      auto_unbox = TRUE, digits = NA
    )
  )
}

# The other prices of a candle.
candle_parts <- function(rows) {
  if (all(c("open", "high", "low") %in% names(rows))) {
    wanted <- c("open", "high", "low", "volume")
    as.list(rows)[
      wanted[
        wanted %in% names(rows) &
          vapply(
            wanted,
            function(column) {
              !all(is.na(rows[[column]]))
            },
            TRUE
          )
      ]
    ]
  }
}

figure_is_log <- function(built) {
  scale <- built$layout$panel_scales_y[[1]]
  trans <- scale$trans %||% scale$transformation
  isTRUE(grepl("log", trans$name %||% ""))
}
