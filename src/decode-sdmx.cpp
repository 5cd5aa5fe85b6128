// Reads SDMX-ML data messages in one pass: generic and structure-specific, time series and flat. No
// tree is built, because a tree of a million observations takes many times the memory of the
// message. A document type, and with it every entity except the five of XML, is refused.
#include "xml-scanner.h"
#include <Rcpp.h>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <string>
#include <unordered_map>
#include <vector>
using namespace Rcpp;
using vetusta::local_name;
using vetusta::Scanner;
using vetusta::View;

namespace {

// A column of texts: a code per row and the distinct texts; code 0 is missing.
struct SdmxColumn {
  std::string name;
  std::vector<int> codes;
  std::vector<std::string> levels;
  std::unordered_map<std::string, int> seen;
  std::string last;
  int last_code = 0;
  void set(size_t row, const std::string& text) {
    if (codes.size() <= row) codes.resize(row + 1, 0);
    if (last_code == 0 || text != last) {
      auto found = seen.find(text);
      if (found == seen.end()) {
        levels.push_back(text);
        last_code = static_cast<int>(levels.size());
        seen.emplace(text, last_code);
      } else {
        last_code = found->second;
      }
      last = text;
    }
    codes[row] = last_code;
  }
};

struct Table {
  std::vector<SdmxColumn> columns;
  size_t rows = 0;
  size_t hint = 0;
  void set(const View& name, const std::string& text) {
    for (size_t k = 0; k < columns.size(); ++k) {
      const size_t i = (hint + k) % columns.size();
      if (columns[i].name.size() == name.n &&
          std::memcmp(columns[i].name.data(), name.p, name.n) == 0) {
        columns[i].set(rows - 1, text);
        hint = i + 1;
        return;
      }
    }
    columns.emplace_back();
    columns.back().name = name.text();
    columns.back().set(rows - 1, text);
    hint = columns.size();
  }
  List frame() {
    List out(columns.size());
    CharacterVector names(columns.size());
    for (size_t i = 0; i < columns.size(); ++i) {
      columns[i].codes.resize(rows, 0);
      CharacterVector levels(columns[i].levels.size());
      for (size_t k = 0; k < columns[i].levels.size(); ++k) {
        const std::string& text = columns[i].levels[k];
        levels[k] = Rf_mkCharLenCE(text.data(), static_cast<int>(text.size()), CE_UTF8);
      }
      out[i] = List::create(_["codes"] = wrap(columns[i].codes), _["levels"] = levels);
      names[i] = columns[i].name;
      std::vector<int>().swap(columns[i].codes);
    }
    out.names() = names;
    return out;
  }
};

bool skipped(const View& name) {
  // words of XML and of the message that are not values
  return (name.n >= 5 && std::memcmp(name.p, "xmlns", 5) == 0) ||
         (name.n > 4 && std::memcmp(name.p, "xsi:", 4) == 0) ||
         (name.n > 4 && std::memcmp(name.p, "xml:", 4) == 0);
}

}  // namespace

// Series, observations, groups and data sets, each a list of columns (codes and levels), with the
// owner of each row (from 1). Numbers are in `value`; `odd` are the rows whose value is not a
// number.
// [[Rcpp::export]]
List sdmx_xml_cpp(RawVector body) {
  Scanner in(reinterpret_cast<const char*>(RAW(body)), body.size());
  Table series, obs, groups, sets, notes;
  std::vector<int> series_set, obs_series, obs_set, group_set;
  std::vector<double> value;
  std::vector<int> odd;
  std::vector<std::string> odd_text;
  std::string prepared, dimension = "TIME_PERIOD", root;
  bool in_series = false, in_obs = false, in_group = false, in_set = false, in_footer = false,
       in_comp = false;
  std::string comp_id, comp_text;
  enum Where { nowhere, key_of_series, key_of_group, key_of_obs, attributes_of };
  Where where = nowhere;
  size_t tags = 0;

  auto put_value = [&](const std::string& text) {
    double number = NA_REAL;
    if (!text.empty()) {
      char* stop_at = nullptr;
      number = std::strtod(text.c_str(), &stop_at);
      // decimal numbers and NaN only, no hexadecimal numbers or other words
      const bool plain =
          text.find_first_not_of("0123456789+-.eE \t\r\n") == std::string::npos || text == "NaN";
      while (stop_at != nullptr && vetusta::is_space(*stop_at)) ++stop_at;
      if (!plain || stop_at == text.c_str() || *stop_at != '\0' || std::isinf(number)) {
        number = NA_REAL;
        odd.push_back(static_cast<int>(obs.rows));
        odd_text.push_back(text);
      } else if (std::isnan(number)) {
        number = NA_REAL;
      }
    }
    value[obs.rows - 1] = number;
  };
  auto begin_obs = [&]() {
    ++obs.rows;
    obs_series.push_back(in_series ? static_cast<int>(series.rows) : 0);
    obs_set.push_back(static_cast<int>(sets.rows));
    value.push_back(NA_REAL);
  };
  auto attribute_of = [&](const char* word) -> const std::string* {
    for (size_t i = 0; i < in.used; ++i)
      if (local_name(in.attributes[i].name).is(word)) return &in.attributes[i].value;
    return nullptr;
  };

  for (;;) {
    const int kind = in.next();
    if (kind == 0) break;
    if ((++tags & 0xFFFFF) == 0) checkUserInterrupt();
    const View name = in.name;
    if (root.empty() && kind != 2) root = name.text();
    if (kind == 2) {
      if (name.is("Obs"))
        in_obs = false;
      else if (name.is("Series"))
        in_series = false;
      else if (name.is("Group"))
        in_group = false;
      else if (name.is("DataSet"))
        in_set = false;
      else if (name.is("Prepared"))
        prepared = in.text;
      else if (name.is("SeriesKey") || name.is("GroupKey") || name.is("ObsKey") ||
               name.is("Attributes"))
        where = nowhere;
      else if (name.is("Value") && in_comp) {
        if (!comp_text.empty()) comp_text += ", ";
        comp_text += in.text;
      } else if (name.is("Comp")) {
        // a component with several values (SDMX 3.0) belongs to the element around it
        Table& table = in_obs ? obs : in_group ? groups : in_series ? series : sets;
        if (in_comp && !comp_id.empty() && table.rows > 0)
          table.set(View{comp_id.data(), comp_id.size()}, comp_text);
        in_comp = false;
      } else if (name.is("Text") && in_footer && notes.rows > 0)
        notes.set(View{"text", 4}, in.text);
      else if (name.is("Footer") || name.is("ErrorMessage"))
        in_footer = false;
      in.keep_text = in_footer || in_comp;
      continue;
    }
    if (name.is("Obs")) {
      if (!in_set) in.fail("an observation outside a data set");
      begin_obs();
      in_obs = kind == 1;
      for (size_t i = 0; i < in.used; ++i) {
        const View word = in.attributes[i].name;
        if (word.is("OBS_VALUE"))
          put_value(in.attributes[i].value);
        else if (!skipped(word))
          obs.set(local_name(word), in.attributes[i].value);
      }
    } else if (name.is("Series")) {
      ++series.rows;
      series_set.push_back(static_cast<int>(sets.rows));
      in_series = kind == 1;
      for (size_t i = 0; i < in.used; ++i)
        if (!skipped(in.attributes[i].name))
          series.set(local_name(in.attributes[i].name), in.attributes[i].value);
    } else if (name.is("Comp")) {
      const std::string* id = attribute_of("id");
      in_comp = kind == 1;
      comp_id = id == nullptr ? "" : *id;
      comp_text.clear();
    } else if (name.is("Value") && !in_comp) {
      const std::string* id = attribute_of("id");
      const std::string* text = attribute_of("value");
      if (id != nullptr && text != nullptr) {
        const View word{id->data(), id->size()};
        Table* table = where == key_of_series   ? &series
                       : where == key_of_group  ? &groups
                       : where == key_of_obs    ? &obs
                       : where == attributes_of ? (in_obs      ? &obs
                                                   : in_group  ? &groups
                                                   : in_series ? &series
                                                               : &sets)
                                                : nullptr;
        if (table != nullptr && table->rows > 0) table->set(word, *text);
      }
    } else if (name.is("ObsDimension")) {
      const std::string* id = attribute_of("id");
      const std::string* text = attribute_of("value");
      if (text != nullptr && obs.rows > 0)
        obs.set(
            id != nullptr ? View{id->data(), id->size()} : View{dimension.data(), dimension.size()},
            *text);
    } else if (name.is("ObsValue")) {
      const std::string* text = attribute_of("value");
      if (text != nullptr && obs.rows > 0) put_value(*text);
    } else if (name.is("SeriesKey")) {
      where = key_of_series;
    } else if (name.is("GroupKey")) {
      where = key_of_group;
    } else if (name.is("ObsKey")) {
      where = key_of_obs;
    } else if (name.is("Attributes")) {
      where = attributes_of;
    } else if (name.is("Group")) {
      ++groups.rows;
      group_set.push_back(static_cast<int>(sets.rows));
      in_group = kind == 1;
      for (size_t i = 0; i < in.used; ++i)
        if (!skipped(in.attributes[i].name))
          groups.set(local_name(in.attributes[i].name), in.attributes[i].value);
    } else if (name.is("DataSet")) {
      ++sets.rows;
      in_set = kind == 1;
      for (size_t i = 0; i < in.used; ++i)
        if (!skipped(in.attributes[i].name))
          sets.set(local_name(in.attributes[i].name), in.attributes[i].value);
    } else if (name.is("Structure")) {
      const std::string* word = attribute_of("dimensionAtObservation");
      if (word != nullptr && *word != "AllDimensions") dimension = *word;
    } else if (name.is("Footer") || name.is("ErrorMessage")) {
      in_footer = true;
      if (name.is("ErrorMessage")) {
        ++notes.rows;
        const std::string* code = attribute_of("code");
        if (code != nullptr) notes.set(View{"code", 4}, *code);
      }
    } else if (name.is("Message") && in_footer) {
      ++notes.rows;
      for (const char* word : {"code", "severity"}) {
        const std::string* text = attribute_of(word);
        if (text != nullptr) notes.set(View{word, std::strlen(word)}, *text);
      }
    }
    in.keep_text = in_footer || in_comp || name.is("Prepared");
  }
  return List::create(
      _["root"] = root, _["prepared"] = prepared, _["dimension"] = dimension,
      _["sets"] = sets.frame(), _["set_rows"] = static_cast<int>(sets.rows),
      _["series"] = series.frame(), _["series_count"] = static_cast<int>(series.rows),
      _["series_set"] = wrap(series_set), _["groups"] = groups.frame(),
      _["group_rows"] = static_cast<int>(groups.rows), _["group_set"] = wrap(group_set),
      _["obs"] = obs.frame(), _["obs_rows"] = static_cast<int>(obs.rows),
      _["obs_series"] = wrap(obs_series), _["obs_set"] = wrap(obs_set), _["value"] = wrap(value),
      _["odd"] = wrap(odd), _["odd_text"] = wrap(odd_text), _["notes"] = notes.frame(),
      _["note_rows"] = static_cast<int>(notes.rows));
}
