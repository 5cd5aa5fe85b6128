# Figures of models: spectrum, trend and season, memory, a fan of paths, an
# index and its payoff.

#' Draw models
#'
#' @param x A result of [model_spectrum()], [model_dependence()],
#'   [model_season()] (or [model_decompose()]), [model_paths()], [index_sum()],
#'   [payoff_value()] or [model_backtest()].
#' @param came For paths: a table with the later values of the series, drawn
#'   over the paths.
#' @param before For paths: the length of the observed series drawn before them.
#' @param some For paths: the number of single paths drawn.
#' @param terms For an index: terms whose strikes are marked, as in
#'   [payoff_value()].
#' @param history For an index: the index of past seasons, drawn as marks below.
#' @param season For an index: its season, by default the first complete one.
#' @param title,subtitle,caption,zone,dark As in [figure_lines()].
#' @return A ggplot object. `figure_spectrum()`: power by period, with named
#'   peaks. `figure_dependence()`: autocorrelations of values and squares with
#'   their bounds. `figure_parts()`: the observed series, trend, season and
#'   residuals. `figure_fan()`: the middle 50% and 90% of paths, their median,
#'   some paths, and later values. `figure_index()`: a histogram of an index.
#'   `figure_payments()`: histograms of payments. `figure_payoff()`: the value
#'   of a payoff by strike, with two standard errors. `figure_backtest()`: the
#'   CRPS and the shares within the middle 50% and 90%, by day and method.
#' @section Errors: `vetusta_error_figure` for any other object.
#' @export
#' @examples
#' days <- as.Date("2016-01-01") + 0:3652
#' level <- data.frame(
#'   series = "lock",
#'   period = days,
#'   value = 200 + 40 * cos(2 * pi * (as.POSIXlt(days)$yday - 100) / 365.25) +
#'     rnorm(3653)
#' )
#' figure_spectrum(model_spectrum(level))
#' figure_parts(model_season(level))
figure_spectrum <- function(x, title = NULL, subtitle = NULL, caption = NULL,
                            dark = FALSE) {
  asked <- lineage_asked()
  check_drawn(x, "vetusta_spectrum", "model_spectrum()")
  check_flag(dark, "dark")
  peaks <- attr(x, "peaks")
  rows <- as.data.frame(x)
  rows <- rows[rows$power > 0, ]
  at <- data.frame(
    period = peaks$period,
    words = peaks$words,
    power = vapply(
      peaks$period, function(p) rows$power[which.min(abs(rows$period - p))], 0
    )
  )
  colours <- line_colours[[shade_name(dark)]]
  plot <- ggplot2::ggplot(
    rows, ggplot2::aes(x = .data$period, y = .data$power)
  ) +
    ggplot2::geom_line(colour = colours[1], linewidth = 0.4) +
    ggplot2::scale_x_log10(labels = axis_numbers) +
    ggplot2::scale_y_log10(
      labels = axis_numbers,
      expand = ggplot2::expansion(c(0.05, 0.12))
    )
  if (nrow(at)) {
    plot <- plot +
      ggplot2::geom_point(data = at, colour = colours[2], size = 2.4) +
      ggplot2::geom_text(
        ggplot2::aes(label = .data$words),
        data = at,
        vjust = -0.9,
        size = 3.8,
        colour = page_colours[[shade_name(dark)]]$text
      )
  }
  figure <- figure_dressed(
    plot, title %||% paste("The cycles of", attr(x, "name")),
    subtitle %||% "power by period, both axes logarithmic", captions(caption),
    y = "power", dark = dark
  ) +
    ggplot2::labs(x = "period, days")
  lineage_step(figure, "figure_spectrum", asked)
}

check_drawn <- function(x, class, made) {
  if (!inherits(given(x, "x", "figure"), class)) {
    vetusta_stop(
      "figure",
      paste0("This is not a result of ", made, "."),
      todo = paste("give that, or make it with", made)
    )
  }
}

#' @rdname figure_spectrum
#' @export
figure_dependence <- function(x, title = NULL, subtitle = NULL, caption = NULL,
                              dark = FALSE) {
  asked <- lineage_asked()
  check_drawn(x, "vetusta_dependence", "model_dependence()")
  check_flag(dark, "dark")
  heads <- c(
    autocorrelation = "values", partial = "values, directly",
    of_squares = "squares", partial_of_squares = "squares, directly"
  )
  rows <- do.call(
    rbind,
    lapply(names(heads), function(name) {
      data.frame(lag = x$lag, value = x[[name]], part = heads[[name]])
    })
  )
  rows$part <- factor(rows$part, heads)
  bound <- attr(x, "bound")
  colours <- line_colours[[shade_name(dark)]]
  page <- page_colours[[shade_name(dark)]]
  plot <- ggplot2::ggplot(rows, ggplot2::aes(x = .data$lag, y = .data$value)) +
    ggplot2::annotate(
      "rect",
      xmin = -Inf, xmax = Inf, ymin = -bound, ymax = bound,
      fill = page$shade
    ) +
    ggplot2::geom_linerange(
      ggplot2::aes(ymin = 0, ymax = .data$value),
      colour = colours[1],
      linewidth = 0.8
    ) +
    ggplot2::geom_hline(yintercept = 0, colour = page$soft, linewidth = 0.3) +
    ggplot2::facet_wrap(ggplot2::vars(.data$part))
  figure <- figure_dressed(
    plot, title %||% paste("Dependence of", attr(x, "name")),
    subtitle %||% "correlation with what was so many steps before",
    captions(caption, "shaded: where 19 of 20 of white noise stay"),
    dark = dark
  ) +
    ggplot2::labs(x = paste0("lag, ", attr(x, "step"), "s"))
  lineage_step(figure, "figure_dependence", asked)
}

#' @rdname figure_spectrum
#' @export
figure_parts <- function(x, title = NULL, subtitle = NULL, caption = NULL,
                         zone = "UTC", dark = FALSE) {
  asked <- lineage_asked()
  check_flag(dark, "dark")
  check_zone(zone, "figure")
  model <- inherits(given(x, "x", "figure"), "vetusta_season")
  if (!model && !is.data.frame(x)) {
    check_drawn(x, "vetusta_season", "model_season()")
  }
  table <- as.data.frame(if (model) x$series else x)
  if (!all(c("observed", "trend", "season", "rest") %in% names(table))) {
    check_drawn(x, "vetusta_season", "model_season() or model_decompose()")
  }
  time <- days_of(table[[1]]) * 86400
  axis <- figure_axis(time, zone, FALSE)
  heads <- c("observed, and trend", "season", "rest")
  part <- function(value, head, line) {
    kept <- series_thin_cpp(time, value, min(time), max(time), 1500L)
    data.frame(
      at = axis$position[kept], value = value[kept], part = head, line = line
    )
  }
  rows <- rbind(
    part(table$observed, heads[1], "value"),
    part(table$trend, heads[1], "trend"),
    part(table$season, heads[2], "value"), part(table$rest, heads[3], "value")
  )
  rows$part <- factor(rows$part, heads)
  colours <- line_colours[[shade_name(dark)]]
  plot <- ggplot2::ggplot(
    rows,
    ggplot2::aes(
      x = .data$at, y = .data$value, colour = .data$line,
      linewidth = .data$line
    )
  ) +
    ggplot2::geom_line() +
    ggplot2::scale_colour_manual(
      values = c(value = colours[1], trend = colours[2]),
      guide = "none"
    ) +
    ggplot2::scale_linewidth_manual(
      values = c(value = 0.35, trend = 1),
      guide = "none"
    ) +
    ggplot2::facet_wrap(
      ggplot2::vars(.data$part),
      ncol = 1, scales = "free_y"
    ) +
    axis_scale(axis) +
    ggplot2::scale_y_continuous(labels = axis_numbers)
  figure <- figure_dressed(
    plot,
    title %||% paste("Trend and season", if (model) paste("of", x$name)),
    subtitle %||% figure_window(time, zone),
    captions(caption, if (model) sub("^ +", "", season_words(x)[-1])),
    y = if (model && !is.na(x$unit)) x$unit,
    dark = dark
  )
  lineage_step(figure, "figure_parts", asked)
}

#' @rdname figure_spectrum
#' @export
figure_fan <- function(x, came = NULL, before = "1 year", some = 3,
                       title = NULL, subtitle = NULL, caption = NULL,
                       zone = "UTC", dark = FALSE) {
  asked <- lineage_asked()
  check_drawn(x, "vetusta_paths", "model_paths()")
  check_flag(dark, "dark")
  check_zone(zone, "figure")
  check_count(some, "some", "figure", 0)
  paths_kept(x)
  band <- as.data.frame(summary(x, c(0.05, 0.25, 0.5, 0.75, 0.95)))
  names(band) <- c("time", "mean", "low", "lower", "middle", "upper", "high")
  band$at <- days_of(band$time) * 86400
  past <- figure_points(x$observed)
  past <- past[
    past$time >= max(past$time) - model_days(before, "before") * 86400, ,
    drop = FALSE
  ]
  later <- if (!is.null(came)) {
    shown <- figure_points(came)
    shown[
      shown$time > max(past$time) & shown$time <= max(band$at), ,
      drop = FALSE
    ]
  }
  single <- utils::head(seq_len(ncol(x$paths)), some)
  singles <- data.frame(
    at = rep(band$at, length(single)),
    value = as.numeric(x$paths[, single]),
    path = rep(single, each = nrow(band))
  )
  axis <- figure_axis(c(past$time, band$at), zone, FALSE)
  colours <- line_colours[[shade_name(dark)]]
  page <- page_colours[[shade_name(dark)]]
  plot <- ggplot2::ggplot(band, ggplot2::aes(x = .data$at)) +
    ggplot2::geom_ribbon(
      ggplot2::aes(ymin = .data$low, ymax = .data$high),
      fill = colours[1],
      alpha = 0.18
    ) +
    ggplot2::geom_ribbon(
      ggplot2::aes(ymin = .data$lower, ymax = .data$upper),
      fill = colours[1], alpha = 0.28
    ) +
    ggplot2::geom_line(
      ggplot2::aes(y = .data$value, group = .data$path),
      data = singles,
      colour = page$soft, linewidth = 0.25
    ) +
    ggplot2::geom_line(
      ggplot2::aes(y = .data$middle),
      colour = colours[1], linewidth = 0.8
    ) +
    ggplot2::geom_line(
      ggplot2::aes(x = .data$time, y = .data$value),
      data = past,
      colour = page$text, linewidth = 0.6
    ) +
    axis_scale(axis) +
    ggplot2::scale_y_continuous(labels = axis_numbers)
  if (NROW(later)) {
    plot <- plot +
      ggplot2::geom_line(
        ggplot2::aes(x = .data$time, y = .data$value),
        data = later,
        colour = colours[2], linewidth = 0.7
      )
  }
  figure <- figure_dressed(
    plot,
    title %||% paste("Simulated paths of", x$name),
    subtitle %||% x$description,
    captions(
      caption,
      paste0(
        "shaded: the middle 50% and 90% of the paths; blue line: median; ",
        "thin lines: single paths"
      ),
      if (NROW(later)) "orange: the values that followed"
    ),
    y = if (!is.na(x$unit)) x$unit,
    dark = dark
  )
  lineage_step(figure, "figure_fan", asked)
}

#' @rdname figure_spectrum
#' @export
figure_index <- function(x, terms = NULL, history = NULL, season = NULL,
                         title = NULL, subtitle = NULL, caption = NULL,
                         dark = FALSE) {
  asked <- lineage_asked()
  check_drawn(x, "vetusta_index", "index_sum()")
  check_flag(dark, "dark")
  sums <- payoff_sums(x, season)[[1]]
  if (!is.null(history)) {
    check_model(history, "vetusta_index", "history", "index_sum()")
  }
  past <- if (!is.null(history)) payoff_sums(history, NULL)[[1]]
  strikes <- if (!is.null(terms)) payoff_terms(terms)
  colours <- line_colours[[shade_name(dark)]]
  page <- page_colours[[shade_name(dark)]]
  rows <- data.frame(index = sums)
  plot <- ggplot2::ggplot(rows, ggplot2::aes(x = .data$index)) +
    ggplot2::geom_histogram(
      bins = min(60, max(8, round(sqrt(length(sums))))),
      fill = colours[1],
      alpha = 0.6,
      colour = page$paper,
      linewidth = 0.2,
      boundary = 0
    ) +
    ggplot2::scale_x_continuous(labels = axis_numbers) +
    ggplot2::scale_y_continuous(labels = axis_numbers)
  if (!is.null(strikes)) {
    plot <- plot +
      ggplot2::geom_vline(
        xintercept = strikes$strike, colour = colours[2], linetype = "42"
      ) +
      ggplot2::annotate(
        "text",
        x = strikes$strike, y = Inf, label = strikes$name,
        angle = 90, hjust = 1.1, vjust = -0.5, size = 3.6, colour = page$text
      )
  }
  if (length(past)) {
    plot <- plot +
      ggplot2::geom_rug(
        data = data.frame(index = past),
        colour = page$text,
        linewidth = 0.6,
        sides = "b"
      )
  }
  simulated <- !is.null(attr(x, "simulated"))
  figure <- figure_dressed(
    plot,
    title %||% paste("The index of", attr(x, "name")),
    subtitle %||%
      paste(
        counted(length(sums), if (simulated) "path" else "season"),
        "of values", if (attr(x, "rule")$below) "below" else "above",
        format_exact(attr(x, "rule")$level)
      ),
    captions(caption, if (length(past)) "marks below: past seasons"),
    y = if (simulated) "paths" else "seasons",
    dark = dark
  ) +
    ggplot2::labs(x = "index")
  lineage_step(figure, "figure_index", asked)
}

#' @rdname figure_spectrum
#' @export
figure_payments <- function(x, title = NULL, subtitle = NULL, caption = NULL,
                            dark = FALSE) {
  asked <- lineage_asked()
  check_drawn(x, "vetusta_payoff", "payoff_value()")
  check_flag(dark, "dark")
  paid <- attr(x, "payments")
  rows <- do.call(
    rbind,
    lapply(seq_along(paid), function(i) {
      data.frame(paid = paid[[i]], part = paste0(x$name[i], ", ", x$method[i]))
    })
  )
  rows$part <- factor(rows$part, unique(rows$part))
  colours <- line_colours[[shade_name(dark)]]
  none <- tapply(rows$paid == 0, rows$part, mean)
  some <- rows[rows$paid > 0, ]
  said <- data.frame(
    part = factor(names(none), levels(rows$part)),
    text = paste0(round(100 * as.numeric(none), 1), "% have no payoff")
  )
  plot <- ggplot2::ggplot(some, ggplot2::aes(x = .data$paid)) +
    ggplot2::geom_histogram(
      bins = 40,
      boundary = 0,
      fill = colours[1],
      colour = page_colours[[shade_name(dark)]]$paper,
      linewidth = 0.2
    ) +
    # a panel without payments has axes too
    ggplot2::geom_blank(ggplot2::aes(x = 0, y = 1), data = said) +
    ggplot2::geom_text(
      ggplot2::aes(x = Inf, y = Inf, label = .data$text),
      data = said,
      hjust = 1.05,
      vjust = 1.6,
      size = 3.6,
      colour = page_colours[[shade_name(dark)]]$soft
    ) +
    ggplot2::facet_wrap(
      ggplot2::vars(.data$part),
      scales = "free_y", drop = FALSE
    ) +
    ggplot2::scale_x_continuous(labels = axis_numbers, n.breaks = 4) +
    ggplot2::scale_y_continuous(labels = axis_numbers)
  figure <- figure_dressed(
    plot, title %||% paste("Payoff of", attr(x, "name")),
    subtitle %||% "how often each amount is paid", captions(caption),
    dark = dark
  ) +
    ggplot2::labs(x = "paid")
  lineage_step(figure, "figure_payments", asked)
}

#' @rdname figure_spectrum
#' @export
figure_payoff <- function(x, title = NULL, subtitle = NULL, caption = NULL,
                          dark = FALSE) {
  asked <- lineage_asked()
  check_drawn(x, "vetusta_payoff", "payoff_value()")
  check_flag(dark, "dark")
  rows <- as.data.frame(x)
  if (anyNA(rows$strike)) {
    vetusta_stop(
      "figure", "A payoff by a function has no strikes.",
      todo = "draw it with figure_payments()"
    )
  }
  rows$low <- rows$mean - 2 * rows$standard_error
  rows$high <- rows$mean + 2 * rows$standard_error
  colours <- line_colours[[shade_name(dark)]]
  width <- diff(range(rows$strike)) * 0.012
  plot <- ggplot2::ggplot(
    rows,
    ggplot2::aes(
      x = .data$strike, y = .data$mean, colour = .data$method,
      shape = .data$method
    )
  ) +
    ggplot2::geom_errorbar(
      ggplot2::aes(ymin = .data$low, ymax = .data$high),
      width = max(width, 1e-9)
    ) +
    ggplot2::geom_line(linewidth = 0.4) +
    ggplot2::geom_point(size = 2.4) +
    ggplot2::scale_colour_manual(
      values = c(simulation = colours[1], "past seasons" = colours[2])
    ) +
    ggplot2::scale_shape_manual(values = c(16, 17)) +
    ggplot2::scale_x_continuous(labels = axis_numbers) +
    ggplot2::scale_y_continuous(labels = axis_numbers)
  figure <- figure_dressed(
    plot, title %||% paste("Value of the payoff of", attr(x, "name")),
    subtitle %||% "mean payment by strike",
    captions(caption, "bars: two standard errors"),
    y = "mean payment",
    dark = dark
  ) +
    ggplot2::labs(x = "strike")
  lineage_step(figure, "figure_payoff", asked)
}
