# The Basin Statistics Office: its dataflows, code lists in English and in
# Sarnish (an invented language, private tag qsa), and its data.

basin_agency <- "BSO"

basin_codes <- function() {
  list(
    CL_FREQ = data.frame(
      id = c("A", "S", "Q", "M", "W"),
      en = c("Annual", "Half-yearly", "Quarterly", "Monthly", "Weekly"),
      qsa = c("Jarnik", "Poljarnik", "Kvartnik", "Monik", "Tydnik"),
      parent = NA
    ),
    CL_STATE = data.frame(
      id = c("SARN", "ORV", "TSK", "MIR", "LUD"),
      en = c("Sarn basin", "Orvane", "Teskland", "Mirholt", "Ludmark"),
      qsa = c("Sarnavod", "Orvana", "Tesklan", "Mirhol", "Ludmar"),
      parent = c(NA, rep("SARN", 4))
    ),
    CL_LOCK = data.frame(
      id = c(
        "KELDER", "TAMM", "YSEL", "BROM", "LUDG", "MIRF", "GRANT", "WENDEL"
      ),
      en = c(
        "Kelder Lock", "Tamm Weir", "Ysel Mouth", "Bromebridge", "Lud Gorge",
        "Mirholt Ferry", "Granth Lock", "Wendel Lock"
      ),
      qsa = c(
        "Keldrin", "Tammin", "Yselin", "Bromin", "Ludin", "Mirin", "Grantin",
        "Wendlin"
      ),
      parent = NA
    ),
    CL_CARGO = data.frame(
      id = c(
        "TOTAL", "GRAIN", "GRAIN_WHEAT", "GRAIN_RYE", "GRAIN_BARLEY", "TIMBER",
        "GRAVEL", "GASOIL", "SALT"
      ),
      en = c(
        "All cargo", "Grain", "Grain: wheat", "Grain: rye", "Grain: barley",
        "Timber", "Gravel", "Gas oil", "Salt"
      ),
      qsa = c(
        "Vsota", "Zerno", "Zerno: psenik", "Zerno: rugis", "Zerno: jecmik",
        "Drevo", "Sterk", "Naftol", "Solin"
      ),
      parent = c(NA, "TOTAL", "GRAIN", "GRAIN", "GRAIN", rep("TOTAL", 4))
    ),
    CL_DIRECTION = data.frame(
      id = c("B", "U", "D"),
      en = c("Both ways", "Upstream", "Downstream"),
      qsa = c("Obe", "Gornik", "Dolnik"),
      parent = NA
    ),
    CL_UNIT = data.frame(
      id = c("T", "NR", "ORV_T", "IX", "ORV_L", "HA"),
      en = c(
        "Tonnes", "Number", "Orv per tonne", "Index, 2020 = 100",
        "Orv per litre", "Hectares"
      ),
      qsa = c(
        "Tonik", "Cislo", "Orv na tonik", "Indeks", "Orv na litrik", "Hektarik"
      ),
      parent = NA
    ),
    CL_LEG = data.frame(
      id = c("UPPER", "MIDDLE", "LOWER"),
      en = c("Upper river", "Middle river", "Lower river"),
      qsa = c("Gorna", "Sredna", "Dolna"),
      parent = NA
    ),
    CL_BASIS = data.frame(
      id = c("N", "R"),
      en = c("Nominal", "At constant prices"),
      qsa = c("Nominik", "Stalnik"),
      parent = NA
    ),
    CL_TAX = data.frame(
      id = c("I", "X"),
      en = c("Tax included", "Tax excluded"),
      qsa = c("S davkom", "Bez davka"),
      parent = NA
    ),
    CL_CROP = data.frame(
      id = c("WHEAT", "RYE", "BARLEY", "BEET"),
      en = c("Wheat", "Rye", "Barley", "Sugar beet"),
      qsa = c("Psenik", "Rugis", "Jecmik", "Repin"),
      parent = NA
    ),
    CL_TYPE = data.frame(
      id = c("DRY", "TANK", "PUSH"),
      en = c("Dry barges", "Tank barges", "Push boats"),
      qsa = c("Suhik", "Cisternik", "Tisnik"),
      parent = NA
    ),
    CL_AGE = data.frame(
      id = c("Y0T9", "Y10T29", "Y30"),
      en = c("Under 10 years", "10 to 29 years", "30 years and more"),
      qsa = c("Do 10", "Od 10 do 29", "Nad 30"),
      parent = NA
    )
  )
}

basin_flows <- function() {
  flow <- function(frequency, lists, units, title, sarnish, text, theme, start,
                   level, mult = 0) {
    list(
      frequency = frequency, lists = lists, units = units, title = title,
      sarnish = sarnish, text = text, theme = theme, start = start,
      level = level, mult = mult
    )
  }
  list(
    LOCK_TRAFFIC = flow(
      "M",
      c(
        STATE = "CL_STATE", LOCK = "CL_LOCK", CARGO = "CL_CARGO",
        DIRECTION = "CL_DIRECTION"
      ),
      c("T", "NR"), "Lock traffic by cargo and direction",
      "Promet skoz kljuke",
      paste0(
        "Cargo carried through the locks of the Sarn, and the number of ",
        "passages, by month."
      ),
      "TRANSPORT.WATER", "2010-01-01", 420, 3
    ),
    FREIGHT_PRICES = flow(
      "Q", c(STATE = "CL_STATE", LEG = "CL_LEG", BASIS = "CL_BASIS"),
      c("ORV_T", "IX"), "Barge freight prices by leg of the river",
      "Cene prevoza", "Prices paid for carrying a tonne by barge, by leg.",
      "PRICES.FREIGHT", "2005-01-01", 14
    ),
    GASOIL_RETAIL = flow(
      "W", c(STATE = "CL_STATE", TAX = "CL_TAX"), "ORV_L",
      "Retail prices of gas oil, weekly", "Cene naftola",
      "Prices at the pump on Mondays.", "PRICES.ENERGY", "2015-01-05", 1.4
    ),
    HARVEST = flow(
      "A", c(STATE = "CL_STATE", CROP = "CL_CROP"), c("T", "HA"),
      "Harvest by crop", "Zetev",
      "Crops harvested and areas sown, by calendar year.", "AGRICULTURE",
      "1990-01-01", 900, 3
    ),
    BARGE_FLEET = flow(
      "S", c(STATE = "CL_STATE", TYPE = "CL_TYPE", AGE_CLASS = "CL_AGE"), "NR",
      "Barge fleet by type and age", "Ladjevje",
      "Registered barges at the end of each half-year.", "TRANSPORT.FLEET",
      "2000-01-01", 140
    )
  )
}

basin_themes <- function() {
  data.frame(
    path = c(
      "TRANSPORT", "TRANSPORT.WATER", "TRANSPORT.FLEET", "PRICES",
      "PRICES.FREIGHT", "PRICES.ENERGY", "AGRICULTURE"
    ),
    en = c(
      "Transport", "Traffic on the water", "The fleet", "Prices",
      "Freight prices", "Energy prices", "Agriculture"
    ),
    qsa = c(
      "Promet", "Promet na vodi", "Ladjevje", "Cene", "Cene prevoza",
      "Cene energike", "Poljarstvo"
    )
  )
}

basin_dimensions <- function(flow) c("FREQ", names(flow$lists), "UNIT")
basin_list_of <- function(flow, id) {
  if (id == "FREQ") {
    "CL_FREQ"
  } else if (id == "UNIT") {
    "CL_UNIT"
  } else {
    flow$lists[[id]]
  }
}

# The two releases: the instant of each, and its last period.
basin_releases <- c("2026-02-20", "2026-03-20")

basin_last_period <- function(flow, release) {
  day <- as.Date(basin_releases[release]) -
    c(M = 25, Q = 60, W = 5, A = 40, S = 50)[[flow$frequency]]
  period_first(period_first(day, flow$frequency) - 1, flow$frequency)
}

# All series of a selection, a row each; some combinations do not exist. A lock
# lies in one state.
basin_series <- function(id, selection = list()) {
  flow <- basin_flows()[[id]]
  codes <- basin_codes()
  dims <- basin_dimensions(flow)
  values <- lapply(stats::setNames(nm = dims), function(dim) {
    all <- if (dim == "FREQ") {
      flow$frequency
    } else if (dim == "UNIT") {
      flow$units
    } else {
      codes[[flow$lists[[dim]]]]$id
    }
    if (length(selection[[dim]])) intersect(selection[[dim]], all) else all
  })
  grid <- rev(expand.grid(rev(values), stringsAsFactors = FALSE))
  if (!nrow(grid)) {
    return(grid)
  }
  if (!is.null(grid$LOCK)) {
    home <- c(
      KELDER = "ORV", TAMM = "ORV", YSEL = "ORV", BROM = "TSK", GRANT = "TSK",
      LUDG = "LUD", MIRF = "MIR", WENDEL = "MIR"
    )
    grid <- grid[grid$STATE == home[grid$LOCK], , drop = FALSE]
  }
  keys <- do.call(paste, c(unname(grid), sep = "."))
  grid <- grid[
    !grepl("SALT.*[.]U[.]|LUD.*RYE|MIR.*BEET|TSK.*TANK.*Y30", keys), ,
    drop = FALSE
  ]
  rownames(grid) <- NULL
  grid
}

# The values of series: series (row), time, value, status, confidential,
# released. Values of the newest period are provisional, and the second release
# revises them.
basin_observations <- function(id, series, from = NULL, to = NULL, release = 2,
                               cache = new.env()) {
  flow <- basin_flows()[[id]]
  last <- basin_last_period(flow, release)
  all <- period_sequence(as.Date(flow$start), last, flow$frequency)
  spelt <- time_spelling(
    all, flow$frequency, if (flow$frequency == "M") "iso" else "sdmx"
  )
  keys <- do.call(
    paste, c(list(rep(id, nrow(series))), unname(series), sep = ".")
  )
  parts <- lapply(seq_along(keys), function(i) {
    key <- keys[i]
    label <- paste(key, release)
    if (is.null(cache[[label]])) {
      cache[[label]] <- basin_figures(key, flow, all, spelt, last, release)
    }
    c(list(series = rep(i, length(cache[[label]]$time))), cache[[label]])
  })
  rows <- as.data.frame(data.table::rbindlist(parts))
  rows <- rows[
    rows$day >= (from %||% min(all)) & rows$day <= (to %||% max(all)),
    setdiff(names(rows), "day")
  ]
  rownames(rows) <- NULL
  rows
}

basin_figures <- function(key, flow, all, spelt, last, release) {
  n <- length(all)
  u <- seeded_normal(key, n)
  height <- seeded_normal(paste0(key, "height"), 1)
  season <- 0.15 *
    sin(
      2 * pi * seq_len(n) /
        c(M = 12, Q = 4, W = 52, A = 7, S = 2)[[flow$frequency]]
    )
  rise <- if (grepl("LUD", key) && flow$frequency != "S") {
    0.9 * as.numeric(all - all[1]) / 3650
  } else {
    0.01 * as.numeric(all - all[1]) / 365
  }
  value <- flow$level * exp(0.8 * height + season + rise + 0.05 * u)
  value <- round(
    value, if (flow$level < 20) 3 else if (flow$frequency == "S") 0 else 1
  )
  first <- round(
    value * (1 + 0.02 * seeded_normal(paste0(key, "first"), n)),
    if (flow$level < 20) 3 else if (flow$frequency == "S") 0 else 1
  )
  chance <- seeded_uniform(paste0(key, "status"), n)
  newest <- all == last
  hidden <- chance < 0.01
  at <- which(!(chance > 0.01 & chance < 0.015))
  list(
    time = spelt[at],
    value = ifelse(hidden, NA, ifelse(newest, first, value))[at],
    status = ifelse(hidden, "M", ifelse(newest, "P", "A"))[at],
    conf = ifelse(hidden, "C", "F")[at],
    released = ifelse(
      newest | all == basin_last_period(flow, 1), basin_releases[release],
      as.character(all + 400)
    )[at],
    day = all[at]
  )
}

basin_cells <- function(id, series, from, to, release) {
  flow <- basin_flows()[[id]]
  first <- max(as.Date(flow$start), from %||% as.Date(flow$start))
  nrow(series) *
    length(
      period_sequence(
        first,
        min(basin_last_period(flow, release), to %||% as.Date("2100-01-01")),
        flow$frequency
      )
    )
}
