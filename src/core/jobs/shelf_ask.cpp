// What is on the shelf: lists, single items, copies, sets, what has moved.
#include <algorithm>
#include <charconv>
#include <fstream>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/output.hpp"

#include "shelf_files.hpp"
#include "shelf_parts.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

std::optional<std::int64_t> number_in(const std::string& word) {
  std::int64_t n = 0;
  const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), n);
  return error == std::errc() && end == word.data() + word.size() ? std::optional(n) : std::nullopt;
}

Outcome list(const ShelfJob& job, const Shelf& shelf, Listener& listener) {
  ShelfFilter filter = job.filter;
  if (job.action == ShelfAction::find)
    for (const std::string& word : job.words) filter.words += (filter.words.empty() ? "" : " ") + word;
  ShelfListed listed{shelf, job.columns, job.as_csv, shelf.ids(filter), shelf.count({})};
  const Outcome outcome{.good = job.action == ShelfAction::list || !listed.ids.empty()};
  listener.result(ShelfTold{shelf.name(), std::move(listed)});
  return outcome;
}

std::string stale_for(const ShelfJob& job, const ShelfItem& item) {
  if (item.is_gone()) return "it is gone";
  return item.host == job.host ? why_stale(item) : "";
}

Outcome show(const ShelfJob& job, const Shelf& shelf, Listener& listener) {
  Outcome outcome;
  for (const std::string& word : job.words) {
    ShelfItem item = item_named(shelf, job, word);
    std::string stale = stale_for(job, item);
    outcome.good = outcome.good && stale.empty() && item.is_sound() && !item.rotten;
    listener.result(ShelfTold{shelf.name(), ShelfShown{std::move(item), std::move(stale)}});
  }
  return outcome;
}

/// A file with names that the shelf does not know stays, and its room with it.
void keep_linked(ShelfCopies& group, const std::string& host) {
  for (const ShelfFreed& file : group.freed)
    if (file.host == host && names_of(file.path) > file.names) group.freed_bytes -= file.size_bytes;
}

/// Whoever is told what to remove has to be told the truth about it as it is now.
Outcome duplicates(const ShelfJob& job, const Shelf& shelf, Listener& listener) {
  ShelfDoubled told{.groups = shelf.duplicates(), .stale = {}};
  for (ShelfCopies& group : told.groups) {
    bool all_here = true;
    for (const ShelfItem& item : group.copies) {
      if (item.host != job.host) continue;
      std::vector<ShelfItem> one{item};
      shelf.add_details(one);
      if (std::string why = why_stale(one.front()); !why.empty())
        told.stale.emplace(item.id, std::move(why)), all_here = false;
    }
    keep_linked(group, job.host);
    if (!all_here) group.freed_bytes = 0;
    told.freed_bytes += group.freed_bytes;
  }
  Outcome outcome{.good = told.groups.empty()};
  listener.result(ShelfTold{shelf.name(), std::move(told)});
  return outcome;
}

Outcome sets(const ShelfJob& job, const Shelf& shelf, Listener& listener) {
  ShelfSetsTold told{shelf.sets(job.filter.incomplete_sets)};
  Outcome outcome;
  for (const ShelfSet& set : told.sets) outcome.good = outcome.good && set.missing.empty();
  listener.result(ShelfTold{shelf.name(), std::move(told)});
  return outcome;
}

Outcome moved(const Shelf& shelf, Listener& listener) {
  ShelfMoved told{.moved = shelf.moved(), .lost = {}};
  for (const ShelfItem& gone : shelf.list({.gone = ShelfFilter::Gone::yes}))
    if (std::none_of(told.moved.begin(), told.moved.end(), [&](const auto& m) { return m.first.id == gone.id; }))
      told.lost.push_back(gone);
  Outcome outcome{.good = told.lost.empty()};
  listener.result(ShelfTold{shelf.name(), std::move(told)});
  return outcome;
}

}  // namespace

ShelfItem item_named(const Shelf& shelf, const ShelfJob& job, const std::string& word) {
  if (const auto id = number_in(word))
    if (auto item = shelf.item(*id)) return std::move(*item);
  const std::string place = place_named(word);
  std::vector<ShelfItem> at = shelf.list({.gone = ShelfFilter::Gone::any, .below = place});
  std::erase_if(at, [&](const ShelfItem& i) { return i.path != place && place_of(i) != place; });
  if (at.size() > 1) std::erase_if(at, [&](const ShelfItem& i) { return i.host != job.host; });
  if (at.size() == 1) {
    shelf.add_details(at);
    return std::move(at.front());
  }
  throw Error({.fault = Fault::usage,
               .code = "no_item",
               .what = at.empty() ? "the shelf has no such item" : "several items of the shelf lie there",
               .file = word,
               .hint = "<job shelf> find TEXT shows the number of each"});
}

Outcome ask_shelf(const ShelfJob& job, Listener& listener) {
  const Shelf shelf(job.at, Shelf::Opening::existing);
  switch (job.action) {
    case ShelfAction::show:
      return show(job, shelf, listener);
    case ShelfAction::duplicates:
      return duplicates(job, shelf, listener);
    case ShelfAction::sets:
      return sets(job, shelf, listener);
    case ShelfAction::moved:
      return moved(shelf, listener);
    case ShelfAction::stats:
      listener.result(ShelfTold{shelf.name(), ShelfSummary{shelf.stats(seconds_now()), shelf.folders()}});
      return {};
    default:
      return list(job, shelf, listener);
  }
}

Outcome forget_on_shelf(const ShelfJob& job, Listener& listener) {
  Shelf shelf(job.at, Shelf::Opening::existing);
  std::vector<ShelfItem> items;
  for (const std::string& word : job.words) items.push_back(item_named(shelf, job, word));
  if (job.moved_only)
    for (auto& [from, to] : shelf.moved()) items.push_back(std::move(from));
  if (job.gone_only)
    for (ShelfItem& gone : shelf.list({.gone = ShelfFilter::Gone::yes})) items.push_back(std::move(gone));
  if (!job.filter.below.empty())
    for (ShelfItem& item : shelf.list({.gone = ShelfFilter::Gone::any, .below = job.filter.below}))
      if (item.host == job.host) items.push_back(std::move(item));
  if (items.empty())
    throw Error({.fault = Fault::usage,
                 .code = "no_item",
                 .what = "there is nothing to take off the shelf",
                 .file = shelf.name(),
                 .hint = "name items, or <gone>, <moved> or <below> FOLDER"});
  Shelf::Change change;
  ShelfForgot told{.places = {}, .planned_only = job.plan_only};
  for (const ShelfItem& item : items) {
    if (std::find(change.forget.begin(), change.forget.end(), item.id) != change.forget.end()) continue;
    change.forget.push_back(item.id);
    told.places.push_back(place_of(item));
  }
  if (!job.plan_only) {
    shelf.apply(change, job.host, seconds_now());
    if (!job.filter.below.empty()) shelf.forget_folder(job.host, job.filter.below);
  }
  listener.result(ShelfTold{shelf.name(), std::move(told)});
  return {};
}

Outcome write_shelf(const ShelfJob& job, Listener& listener) {
  if (job.out.empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "the file to be written has no name",
                 .hint = "add <out> FILE"});
  const Shelf shelf(job.at, Shelf::Opening::existing);
  InputFiles own;
  own.add(job.at);
  refuse_existing({job.out}, own, job.existing);
  ShelfLines told{.file = job.out.string(), .written = true};
  OutputSet outputs(job.existing, own);
  Output& file = outputs.add(job.out);
  std::string block;
  shelf.write_lines([&](const std::string& line) {
    block += line;
    block += '\n';
    ++told.items;
    if (block.size() < (1 << 20)) return;
    file.write(as_view(block));
    block.clear();
  });
  file.write(as_view(block));
  outputs.commit();
  --told.items;  // the first line is none
  listener.result(ShelfTold{shelf.name(), std::move(told)});
  return {};
}

Outcome read_shelf(const ShelfJob& job, Listener& listener) {
  Shelf shelf(job.at, Shelf::Opening::create);
  for (const std::string& word : job.words) {
    std::ifstream lines(word, std::ios::binary);
    if (!lines) throw_system_error("cannot open", word, errno);
    const Shelf::Imported imported = shelf.read_lines(
        [&]() -> std::optional<std::string> {
          std::string line;
          if (std::getline(lines, line)) return line;
          if (lines.bad()) throw_system_error("cannot read", word, errno);
          return std::nullopt;
        },
        word);
    listener.result(ShelfTold{shelf.name(), ShelfLines{word, false, imported.items, imported.renewed, imported.older}});
  }
  return {};
}

}  // namespace opifex::jobs
