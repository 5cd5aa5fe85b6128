# Figures of tables: the largest moves, a statement, correlations.

#' Draw the largest moves, a statement, or correlations
#'
#' @param moves A table of moves, as returned by [rank_moves()].
#' @param statement A statement, long or wide, as returned by
#'   [facts_statement()].
#' @param correlations Pairs of series, as returned by [series_correlation()].
#' @param title,subtitle,caption,names,dark As in [figure_lines()].
#' @return A ggplot object. Computed figures of a statement are pale.
#' @section Errors: `vetusta_error_figure` if there is nothing to draw,
#'   `vetusta_error_argument` for a table without the necessary columns.
#' @export
#' @examples
#' rows <- data.frame(
#'   symbol = c("KELD", "TAMX"), last = c(42, 18), before = c(41, 18.6),
#'   volume = c(12000, 8000)
#' )
#' figure_movers(rank_moves(rows, "up"))
figure_movers <- function(moves, names = NULL, title = NULL, subtitle = NULL,
                          caption = NULL, dark = FALSE) {
  check_rows(moves, "moves")
  check_names(names)
  for (name in c("symbol", "percent")) check_column(moves, name)
  check_flag(dark, "dark")
  rows <- as.data.frame(moves)
  rows <- rows[is.finite(rows$percent), ]
  if (!nrow(rows)) {
    vetusta_stop(
      "figure", "There are no moves to draw.",
      todo = "lower the minimum values, or check the day"
    )
  }
  known <- match(rows$symbol, names(names))
  name <- ifelse(
    is.na(known), as.character(rows$symbol), as.character(names)[known]
  )
  rows$label <- factor(short_names(name), rev(unique(short_names(name))))
  rows$way <- ifelse(rows$percent >= 0, "closed higher", "closed lower")
  rows$said <- sprintf("%+.2f%%", rows$percent)
  room <- max(abs(rows$percent)) * 0.02
  colours <- way_colours[[shade_name(dark)]]
  plot <- ggplot2::ggplot(
    rows, ggplot2::aes(x = .data$percent, y = .data$label, fill = .data$way)
  ) +
    ggplot2::geom_col(width = 0.7) +
    ggplot2::geom_text(
      ggplot2::aes(
        label = .data$said,
        hjust = ifelse(.data$percent >= 0, 0, 1)
      ),
      colour = page_colours[[shade_name(dark)]]$text,
      size = 3.4,
      position = ggplot2::position_nudge(x = room * sign(rows$percent))
    ) +
    ggplot2::scale_fill_manual(values = colours, guide = "none") +
    ggplot2::scale_x_continuous(
      labels = axis_numbers,
      expand = ggplot2::expansion(mult = c(0.14, 0.14))
    )
  figure_dressed(
    plot, title %||% "The largest moves", subtitle, caption,
    x = "change in percent", dark = dark
  )
}

#' @rdname figure_movers
#' @export
figure_statement <- function(statement, title = NULL, subtitle = NULL,
                             caption = NULL, dark = FALSE) {
  check_rows(statement, "statement")
  check_flag(dark, "dark")
  rows <- statement_rows(statement)
  rows <- rows[is.finite(rows$value), ]
  if (!nrow(rows)) {
    vetusta_stop(
      "figure", "There are no figures to draw.",
      todo = "check the companies and items"
    )
  }
  several <- length(unique(rows$symbol[!is.na(rows$symbol)])) > 1
  ends <- sort(unique(rows$period_end))
  rows$end <- factor(
    format(
      rows$period_end,
      if (all(format(ends, "%m") == format(ends[1], "%m"))) "%Y" else "%Y-%m"
    )
  )
  rows$item <- factor(rows$item, unique(rows$item))
  rows$who <- factor(if (several) rows$symbol else rep("", nrow(rows)))
  colours <- series_colours(levels(rows$who), dark)
  plot <- ggplot2::ggplot(
    rows,
    ggplot2::aes(
      x = .data$end,
      y = .data$value,
      fill = .data$who,
      alpha = .data$made == "computed"
    )
  ) +
    ggplot2::geom_col(
      position = ggplot2::position_dodge2(preserve = "single"),
      width = 0.75
    ) +
    ggplot2::facet_wrap(ggplot2::vars(.data$item), scales = "free_y") +
    ggplot2::scale_alpha_manual(
      values = c("FALSE" = 1, "TRUE" = 0.5),
      guide = "none"
    ) +
    ggplot2::scale_fill_manual(
      values = colours,
      guide = if (several) "legend" else "none"
    ) +
    ggplot2::scale_y_continuous(labels = axis_numbers)
  unit <- unique(rows$unit[!is.na(rows$unit)])
  figure_dressed(
    plot,
    title %||% figure_title(unique(rows$symbol[!is.na(rows$symbol)])),
    subtitle,
    captions(
      caption,
      if (any(rows$made == "computed")) "pale: computed from what was filed"
    ),
    y = if (length(unit) == 1) unit,
    dark = dark
  ) +
    ggplot2::theme(
      axis.text.x = ggplot2::element_text(
        angle = if (length(ends) > 6) 90 else 0,
        vjust = 0.5
      )
    )
}

# A statement as a row a value, from any of its forms.
statement_rows <- function(statement) {
  rows <- as.data.frame(statement)
  n <- nrow(rows)
  if ("value" %in% names(rows)) {
    for (name in c("item", "period_end")) check_column(rows, name)
    return(
      list_frame(
        list(
          symbol = rows[["symbol"]] %||% rep(NA_character_, n),
          item = rows$item,
          period_end = rows$period_end,
          value = rows$value,
          unit = rows[["unit"]] %||% rep(NA, n),
          made = rows[["made"]] %||% rep("filed", n)
        )
      )
    )
  }
  if (!any(c("item", "period_end") %in% names(rows))) check_column(rows, "item")
  beside <- "period_end" %in% names(rows)
  heads <- setdiff(names(rows), c("symbol", "item", "unit", "period_end"))
  computed <- attr(statement, "computed")
  parts <- lapply(heads, function(head) {
    made <- if (is.null(computed)) rep(FALSE, n) else computed[, head]
    list_frame(
      list(
        symbol = if (beside) {
          rep(head, n)
        } else {
          rows[["symbol"]] %||% rep(NA_character_, n)
        },
        item = if (beside) rep("", n) else rows$item,
        period_end = if (beside) rows$period_end else rep(as.Date(head), n),
        value = rows[[head]],
        unit = rows[["unit"]] %||% rep(NA, n),
        made = ifelse(made, "computed", "filed")
      )
    )
  })
  do.call(rbind, parts)
}

#' @rdname figure_movers
#' @export
figure_correlation <- function(correlations, title = NULL, subtitle = NULL,
                               caption = NULL, dark = FALSE) {
  check_rows(correlations, "correlations")
  for (name in c("a", "b", "correlation")) check_column(correlations, name)
  check_flag(dark, "dark")
  if (!nrow(correlations)) {
    vetusta_stop(
      "figure", "There are no correlations to draw.",
      todo = "give two series or more"
    )
  }
  names <- unique(c(correlations$a, correlations$b))
  both <- data.frame(
    a = c(correlations$a, correlations$b, names),
    b = c(correlations$b, correlations$a, names),
    correlation = c(rep(correlations$correlation, 2), rep(1, length(names)))
  )
  short <- short_names(names, 24)
  both$a <- factor(short[match(both$a, names)], unique(short))
  both$b <- factor(short[match(both$b, names)], rev(unique(short)))
  both$strong <- abs(both$correlation) > 0.6 & !is.na(both$correlation)
  both$said <- ifelse(
    is.na(both$correlation), "", sprintf("%.2f", both$correlation)
  )
  colours <- way_colours[[shade_name(dark)]]
  page <- page_colours[[shade_name(dark)]]
  plot <- ggplot2::ggplot(
    both, ggplot2::aes(x = .data$a, y = .data$b, fill = .data$correlation)
  ) +
    ggplot2::geom_tile(colour = page$paper, linewidth = 0.6) +
    ggplot2::scale_fill_gradient2(
      low = colours[[2]], mid = page$shade, high = colours[[1]],
      limits = c(-1, 1), na.value = page$quiet
    )
  if (length(names) <= 20) {
    plot <- plot +
      ggplot2::geom_text(
        ggplot2::aes(label = .data$said, colour = .data$strong),
        size = 3.4
      ) +
      ggplot2::scale_colour_manual(
        values = c(
          "FALSE" = page$text,
          "TRUE" = if (dark) "#141a22" else "white"
        ),
        guide = "none"
      )
  }
  figure_dressed(
    plot, title %||% "How changes go together", subtitle, caption,
    dark = dark
  ) +
    ggplot2::theme(
      panel.grid.major = ggplot2::element_blank(),
      axis.text.x = ggplot2::element_text(
        angle = if (length(names) > 6) 90 else 0,
        vjust = 0.5
      ),
      legend.key.width = grid::unit(2, "lines")
    )
}
