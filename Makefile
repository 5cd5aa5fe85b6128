# make demo and make test set up what is missing first; the other targets are for working on Vetusta itself.
SHELL = /bin/sh
LIB = $(CURDIR)/.lib
DEMO_DESK ?= demo-desk
SOURCES = DESCRIPTION NAMESPACE $(wildcard R/*.R src/*.cpp inst/*/* exec/*)
R_LIBRARY = $$(cat $(LIB)/library)
# without what a debugger needs, code compiles in three fifths of the time
export R_MAKEVARS_USER ?= $(CURDIR)/tools/makevars
WITH_LIBRARY = R_LIBS="$(LIB):$(R_LIBRARY)$${R_LIBS:+:$$R_LIBS}"

.PHONY: demo test install check lint format docs site bench clean
demo: $(LIB)/installed
	@./vetusta demo $(DEMO_DESK)

install: $(LIB)/installed

$(LIB)/library: tools/setup.R DESCRIPTION
	@mkdir -p $(LIB)
	@Rscript tools/setup.R run $(LIB)/library

$(LIB)/installed: $(SOURCES) $(LIB)/library
	@echo "[make] installing vetusta into .lib" >&2
	@$(WITH_LIBRARY) MAKEFLAGS=-j$$(nproc) R CMD INSTALL --no-docs --no-test-load --library=$(LIB) . > $(LIB)/install.log 2>&1 || \
	  { echo "[make] installing vetusta failed; the last lines of its log:" >&2; tail -n 25 $(LIB)/install.log >&2; exit 1; }
	@touch $@

test: $(LIB)/installed
	@Rscript tools/setup.R test
	@Rscript tools/programs.R
	@$(WITH_LIBRARY) Rscript tools/test.R $(FILES)

docs:
	@Rscript tools/setup.R develop
	@$(WITH_LIBRARY) Rscript -e 'Rcpp::compileAttributes(); roxygen2::roxygenise(load_code = "source")'
	@$(MAKE) --no-print-directory install
	@$(WITH_LIBRARY) Rscript tools/reference.R

site: $(LIB)/installed
	@VETUSTA_LIBRARY=$(LIB)/site Rscript tools/setup.R site
	@R_LIBS="$(LIB)/site:$(LIB):$(R_LIBRARY)" Rscript tools/site.R

# styler and pkgdown have libraries of their own, because they need newer packages than Debian's dplyr
# can work with. R in the tidyverse style, C++ by clang-format where it is installed; FILES names some files of R
format:
	@VETUSTA_LIBRARY=$(LIB)/format Rscript tools/setup.R format
	@R_LIBS="$(LIB)/format:$(R_LIBRARY)" Rscript -e 'styler::cache_deactivate(FALSE); styler::style_file(commandArgs(TRUE))' \
	  $(or $(FILES),$(wildcard R/*.R tests/testthat/*.R bench/*.R tools/*.R))
	@if command -v clang-format > /dev/null; then clang-format -i $(filter-out src/RcppExports.cpp,$(wildcard src/*.cpp src/*.h)); fi

lint:
	@Rscript tools/setup.R develop
	@$(WITH_LIBRARY) Rscript tools/lint.R

check:
	@Rscript tools/setup.R test
	@rm -rf .check && mkdir -p .check && cd .check && R CMD build .. && $(WITH_LIBRARY) _R_CHECK_FORCE_SUGGESTS_=false R CMD check --no-manual vetusta_*.tar.gz

bench: $(LIB)/installed
	@Rscript tools/setup.R develop
	@$(WITH_LIBRARY) Rscript bench/collect.R
	@$(WITH_LIBRARY) Rscript bench/manners.R
	@$(WITH_LIBRARY) Rscript bench/core.R
	@$(WITH_LIBRARY) Rscript bench/lineage.R
	@$(WITH_LIBRARY) Rscript bench/sdmx.R
	@$(WITH_LIBRARY) Rscript bench/archive.R
	@$(WITH_LIBRARY) Rscript bench/desk.R
	@$(WITH_LIBRARY) Rscript bench/universe.R
	@$(WITH_LIBRARY) Rscript bench/figures.R
	@$(WITH_LIBRARY) Rscript bench/model.R
	@$(WITH_LIBRARY) Rscript bench/scale.R
	@$(WITH_LIBRARY) Rscript bench/many.R
	@$(WITH_LIBRARY) Rscript bench/growth.R
	@$(WITH_LIBRARY) Rscript bench/vintages.R
	@$(WITH_LIBRARY) Rscript bench/small.R
	@$(WITH_LIBRARY) Rscript bench/start.R

clean:
	rm -rf $(LIB) .check demo-desk src/*.o src/*.so
