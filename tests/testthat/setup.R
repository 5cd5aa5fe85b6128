# Lists of archives are cached in the user's cache folder; tests have one of
# their own.
withr::local_envvar(
  R_USER_CACHE_DIR = withr::local_tempdir(.local_envir = teardown_env()),
  .local_envir = teardown_env()
)
