# A figure of a backtest: how well each method did from each day.

#' @rdname figure_spectrum
#' @export
figure_backtest <- function(x, title = NULL, subtitle = NULL, caption = NULL,
                            dark = FALSE) {
  asked <- lineage_asked()
  check_drawn(x, "vetusta_backtest", "model_backtest()")
  check_flag(dark, "dark")
  scores <- as.data.frame(x$scores)
  parts <- c(crps = "CRPS", within_50 = "within 50%", within_90 = "within 90%")
  parts <- parts[names(parts) %in% names(scores)]
  rows <- do.call(rbind, lapply(names(parts), function(name) {
    data.frame(
      at = days_of(scores$day) * 86400, method = scores$method,
      value = scores[[name]] * if (name == "crps") 1 else 100,
      part = factor(parts[[name]], parts)
    )
  }))
  rows <- rows[!is.na(rows$value), , drop = FALSE]
  target <- data.frame(
    part = factor(parts[parts != "CRPS"], parts), share = c(50, 90)
  )
  methods <- unique(rows$method)
  colours <- stats::setNames(
    line_colours[[shade_name(dark)]][seq_along(methods)], methods
  )
  plot <- ggplot2::ggplot(
    rows, ggplot2::aes(x = .data$at, y = .data$value, colour = .data$method)
  ) +
    ggplot2::geom_hline(
      ggplot2::aes(yintercept = .data$share),
      data = target, colour = page_colours[[shade_name(dark)]]$soft,
      linetype = "42", linewidth = 0.4
    ) +
    ggplot2::geom_line(linewidth = 0.5) +
    ggplot2::geom_point(size = 1.8) +
    ggplot2::scale_colour_manual(values = colours) +
    axis_scale(figure_axis(rows$at, "UTC", FALSE)) +
    ggplot2::scale_y_continuous(
      labels = axis_numbers, limits = c(0, NA),
      expand = ggplot2::expansion(mult = c(0, 0.08))
    ) +
    ggplot2::facet_wrap(
      ggplot2::vars(.data$part),
      ncol = 1, scales = "free_y"
    )
  figure <- figure_dressed(
    plot, title %||% paste("Backtest of", x$name),
    subtitle %||% paste0(
      x$horizon, " ahead from ", counted(length(unique(rows$at)), "day")
    ),
    captions(
      caption,
      paste(
        "CRPS: lower is better; the shares of later values within the middle",
        "50% and 90% of the paths should be near the dashed lines"
      )
    ),
    dark = dark
  )
  lineage_step(figure, "figure_backtest", asked)
}
