# The theme of figures: colours that colour-blind readers and print can tell
# apart, light and dark; and writing figures to files.

# Blue and vermilion first, then the other colours of Okabe and Ito without
# yellow, which colour-blind readers can tell apart. The last is that of the
# text.
line_colours <- list(
  light = c(
    "#0072B2", "#D55E00", "#009E73", "#CC79A7", "#56B4E9", "#E69F00", "#1c2430"
  ),
  dark = c(
    "#56B4E9", "#F0853C", "#2FC49A", "#DC9CC0", "#8FA9E8", "#E9B44C", "#e8ecf2"
  )
)
way_colours <- list(
  light = c("closed higher" = "#0072B2", "closed lower" = "#D55E00"),
  dark = c("closed higher" = "#56B4E9", "closed lower" = "#F0853C")
)
page_colours <- list(
  light = list(
    paper = "white", text = "#1c2430", soft = "#5b6675", grid = "#e3e7ec",
    shade = "#eef1f5", quiet = "#b9c1cb"
  ),
  dark = list(
    paper = "#141a22", text = "#e8ecf2", soft = "#a6b0bd", grid = "#2c3541",
    shade = "#1d2530", quiet = "#5b6675"
  )
)

#' Theme of the figures
#'
#' @param dark For a dark background.
#' @param size The size of the text in points.
#' @return A ggplot2 theme, which can be added to any ggplot.
#' @section Errors: `vetusta_error_argument` for invalid arguments.
#' @export
#' @examples
#' ggplot2::ggplot(data.frame(x = 1:3, y = 1:3), ggplot2::aes(x, y)) +
#'   ggplot2::geom_line() +
#'   theme_vetusta(dark = TRUE)
theme_vetusta <- function(dark = FALSE, size = 12) {
  check_flag(dark, "dark")
  check_number(size, "size", 1)
  page <- page_colours[[shade_name(dark)]]
  text <- function(...) ggplot2::element_text(colour = page$text, ...)
  ggplot2::theme_minimal(base_size = size) +
    ggplot2::theme(
      text = text(),
      axis.text = ggplot2::element_text(colour = page$soft),
      plot.title = text(face = "bold"),
      plot.title.position = "plot",
      plot.subtitle = ggplot2::element_text(colour = page$soft),
      plot.caption = ggplot2::element_text(colour = page$soft, hjust = 0),
      plot.caption.position = "plot",
      strip.text = text(hjust = 0, face = "bold"),
      legend.position = "top",
      legend.justification = "left",
      legend.title = ggplot2::element_blank(),
      panel.grid.minor = ggplot2::element_blank(),
      panel.grid.major = ggplot2::element_line(
        colour = page$grid, linewidth = 0.3
      ),
      plot.background = ggplot2::element_rect(fill = page$paper, colour = NA),
      plot.margin = ggplot2::margin(10, 14, 8, 10)
    )
}

shade_name <- function(dark) if (isTRUE(dark)) "dark" else "light"

# A colour a name; colours repeat where there are more names.
series_colours <- function(names, dark) {
  stats::setNames(
    rep(line_colours[[shade_name(dark)]], length.out = length(names)), names
  )
}

#' Write a figure to a file
#'
#' @param figure A figure, or any other ggplot.
#' @param file Path of a `.png`, `.svg` or `.pdf` file, or of an `.html` file
#'   for an interactive figure, see [figure_interactive()].
#' @param width,height Size in pixels of a PNG; of the other formats,
#'   `resolution` pixels are an inch. An interactive figure fills the window.
#' @param resolution Pixels per inch: higher values make text and lines larger.
#' @return The path, invisibly. The same figure gives the same bytes. The file
#'   is written under another name and then moved into place.
#' @section Errors: `vetusta_error_figure` for an unknown ending, a folder that
#'   does not exist, or an invalid size (100 to 20000 pixels).
#' @export
#' @examples
#' days <- bars_frame(
#'   data.frame(
#'     symbol = "KELD",
#'     time = as.POSIXct("2026-03-02", tz = "UTC") + 86400 * 0:3,
#'     close = 41:44
#'   )
#' )
#' figure_save(figure_lines(days), tempfile(fileext = ".png"))
figure_save <- function(figure, file, width = 1280, height = 800,
                        resolution = 120) {
  check_figure(figure)
  check_text(file, "file", "figure")
  check_number(resolution, "resolution", 10, "figure")
  for (size in list(width, height)) {
    if (!is.numeric(size) ||
      length(size) != 1 ||
      !isTRUE(size >= 100 && size <= 20000)) {
      vetusta_stop(
        "figure",
        paste0(
          "A figure cannot be ", shown_value(width), " by ",
          shown_value(height), " pixels."
        ),
        todo = "give a width and a height from 100 to 20000"
      )
    }
  }
  open <- check_figure_file(file)
  ending <- tolower(sub(".*[.]", "", file))
  if (ending %in% figure_pages) {
    write_lines_whole(figure_page(figure), file, "figure")
    return(invisible(file))
  }
  built <- figure_built(figure_wrapped(figure, width / resolution), file)
  write_whole(
    file,
    function(path) {
      beside <- paste0(path, ".", ending)
      on.exit(unlink(beside))
      open(beside, width, height, resolution)
      tryCatch(draw_built(built), finally = grDevices::dev.off())
      c(pdf = undate_pdf, svg = unnumber_svg, png = identity)[[ending]](beside)
      figure_traced(figure, beside, ending)
      file.rename(beside, path)
    },
    "figure"
  )
  invisible(file)
}

# Adds the lineage of a figure to its file.
figure_traced <- function(figure, file, ending) {
  node <- lineage_written(figure)
  if (is.null(node)) {
    return(invisible())
  }
  if (ending == "png") png_with_text(file, about_json(node))
  if (ending == "svg") {
    page <- xml2::read_xml(file)
    xml2::xml_add_child(page, "metadata", about_json(node), .where = 0)
    xml2::write_xml(page, file)
  }
}

# Long texts in lines that fit a width in inches.
figure_wrapped <- function(figure, width) {
  per_inch <- c(title = 10.5, subtitle = 12.5, caption = 15)
  for (name in names(per_inch)) {
    text <- figure$labels[[name]]
    most <- floor(width * per_inch[[name]])
    if (!is.character(text) || length(text) != 1) next
    lines <- strsplit(text, "\n", fixed = TRUE)[[1]]
    long <- nchar(lines) > most
    lines[long] <- vapply(lines[long], function(line) {
      paste(strwrap(line, most), collapse = "\n")
    }, "")
    figure$labels[[name]] <- paste(lines, collapse = "\n")
  }
  figure
}

# Endings of interactive figures.
figure_pages <- c("html", "htm")

draw_built <- function(built) {
  grid::grid.newpage()
  grid::grid.draw(ggplot2::ggplot_gtable(built))
}

figure_devices <- list(
  png = function(file, width, height, resolution) {
    if (requireNamespace("ragg", quietly = TRUE)) {
      ragg::agg_png(file, width, height, res = resolution)
    } else {
      grDevices::png(
        file,
        width,
        height,
        res = resolution,
        type = if (capabilities("cairo")) "cairo" else getOption("bitmapType")
      )
    }
  },
  svg = function(file, width, height, resolution) {
    if (requireNamespace("svglite", quietly = TRUE)) {
      svglite::svglite(file, width / resolution, height / resolution)
    } else {
      grDevices::svg(file, width / resolution, height / resolution)
    }
  },
  pdf = function(file, width, height, resolution) {
    grDevices::pdf(
      file, width / resolution, height / resolution,
      title = "vetusta"
    )
  }
)

# Removes the creation date from a PDF, so that equal figures give equal files.
undate_pdf <- function(file) {
  bytes <- readBin(file, "raw", file.size(file))
  for (at in grepRaw(
    "/(CreationDate|ModDate) \\(D:[0-9]{14}", bytes,
    all = TRUE
  )) {
    digits <- at + regexpr("[0-9]", rawToChar(bytes[at + 0:40])) - 1L + 0:13
    bytes[digits] <- charToRaw("20000101000000")
  }
  writeBin(bytes, file)
}

# Lines below a figure.
captions <- function(caption, ...) {
  if (!is.null(caption) && !is.atomic(caption)) {
    vetusta_stop(
      "figure", paste0("`caption` cannot be ", shown_value(caption), "."),
      todo = "give a text"
    )
  }
  c(if (length(caption)) format(caption), ...)
}

# Removes the running numbers that the SVG device gives surfaces.
unnumber_svg <- function(file) {
  lines <- readLines(file, warn = FALSE, encoding = "UTF-8")
  writeLines(
    gsub("surface[0-9]+", "surface1", lines, useBytes = TRUE), file,
    useBytes = TRUE
  )
}

# Titles, axes and theme of a figure.
figure_dressed <- function(plot, title, subtitle, caption, x = NULL, y = NULL,
                           dark = FALSE) {
  plot +
    ggplot2::labs(
      title = title,
      subtitle = subtitle,
      x = x,
      y = y,
      caption = if (length(caption)) paste(caption, collapse = "\n")
    ) +
    theme_vetusta(dark)
}

# Panels above each other with heights in proportion, each with its own axis,
# and a column per value of `columns`.
stacked_strips <- function(columns, heights) {
  facet <- ggplot2::facet_grid(
    rows = ggplot2::vars(.data$strip),
    cols = columns,
    scales = "free_y",
    switch = "y",
    labeller = ggplot2::labeller(name = short_names)
  )
  draw <- function(self, ...) {
    table <- ggplot2::ggproto_parent(facet, self)$draw_panels(...)
    rows <- unique(ggplot2::panel_rows(table)$t)
    table$heights[rows] <- grid::unit(heights[seq_along(rows)], "null")
    table
  }
  ggplot2::ggproto(NULL, facet, strip_heights = heights, draw_panels = draw)
}

# The names of such panels, beside their axes.
strip_text <- function() {
  ggplot2::theme(
    strip.placement = "outside",
    strip.text.y.left = ggplot2::element_text(angle = 90, face = "plain")
  )
}

# Axis numbers with thousands separators and no superfluous digits.
axis_numbers <- function(x) {
  one <- function(x) {
    format(x, big.mark = ",", trim = TRUE, scientific = FALSE, digits = 6)
  }
  sizes <- abs(x[is.finite(x) & x != 0])
  # on an axis of many orders each number has its own digits
  text <- if (length(sizes) && max(sizes) / min(sizes) > 1e3) {
    vapply(x, one, "")
  } else {
    one(x)
  }
  # very large and very small numbers have a power of ten
  far <- is.finite(x) & x != 0 & (abs(x) >= 1e9 | abs(x) < 1e-4)
  if (any(far)) {
    text[is.finite(x)] <-
      format(x[is.finite(x)], trim = TRUE, digits = 4, scientific = TRUE)
  }
  ifelse(is.na(x), NA_character_, text)
}

say_figure <- function(...) {
  message(
    structure(
      class = c("vetusta_note", "message", "condition"),
      list(message = paste0("note: ", ..., "\n"), call = NULL)
    )
  )
}

utils::globalVariables(c(".data", "density"))

# The device for a figure's file, checked before any work.
check_figure_file <- function(file) {
  ending <- tolower(sub(".*[.]", "", file))
  open <- figure_devices[[ending]]
  if (is.null(open) && !ending %in% figure_pages) {
    vetusta_stop(
      "figure", "The figure's file must end in .png, .svg, .pdf or .html.",
      where = file, todo = "give another name"
    )
  }
  if (!dir.exists(dirname(file))) {
    vetusta_stop(
      "figure", "The folder of the figure does not exist.",
      where = dirname(file), todo = "create it, or give another path"
    )
  }
  open
}
