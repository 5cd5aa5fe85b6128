library(testthat)
library(vetusta)

test_check("vetusta")
