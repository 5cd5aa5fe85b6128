desk_write <- function(desk) NULL
