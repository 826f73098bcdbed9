#include "reporter.hpp"

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/cartridge.hpp"
#include "opifex/core/jobs/check.hpp"
#include "opifex/core/jobs/dump.hpp"
#include "opifex/core/jobs/identify.hpp"
#include "opifex/core/jobs/rename.hpp"
#include "opifex/core/jobs/rename_by.hpp"
#include "opifex/core/jobs/rescue.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/core/jobs/shelf.hpp"
#include "opifex/report/archive.hpp"
#include "opifex/report/batch.hpp"
#include "opifex/report/dump.hpp"
#include "opifex/report/edit.hpp"
#include "opifex/report/figures.hpp"
#include "opifex/report/known.hpp"
#include "opifex/report/patch.hpp"
#include "opifex/report/records.hpp"
#include "opifex/report/renames.hpp"
#include "opifex/report/save.hpp"
#include "opifex/report/shelf.hpp"
#include "opifex/report/survey.hpp"
#include "opifex/report/text.hpp"
#include "opifex/report/words.hpp"

namespace opifex::cli {
namespace {

template <typename Files>
std::vector<std::filesystem::path> paths_of(const Files& files) {
  std::vector<std::filesystem::path> paths;
  for (const auto& file : files) paths.push_back(file.path);
  return paths;
}

}  // namespace

void Reporter::result(const jobs::Identified& found) {
  const std::string& path = found.path;
  const auto tell = [this](const report::Json& json, const std::string& text) { session_.result(json, text); };
  std::visit(
      Overloaded{[&](const jobs::IdentifiedImage& i) {
                   tell(report::identify_json(i.image, i.id), report::identify_text(i.image, i.id));
                   draw([&] { return report::layout_figures(i.image, i.id); });
                   draw([&] { return report::density_figures(i.image, session_.context()); });
                 },
                 [&](const ArchivePtr& archive) {
                   tell(report::archive_json(path, *archive), report::archive_text(path, *archive));
                 },
                 [&](const NonImage& other) { tell(report::other_json(path, other), report::other_text(path, other)); },
                 [&](const Survey& survey) { tell(report::survey_json(survey), report::survey_text(survey)); },
                 [&](const ImageListing& listing) {
                   tell(report::listing_json(path, listing), report::listing_text(path, listing));
                 },
                 [&](const jobs::UnknownFile& unknown) {
                   tell(report::unknown_json(path, unknown.why), report::unknown_text(path, unknown.why));
                 }},
      found.what);
}

void Reporter::result(const jobs::Checked& checked) {
  const auto hint = checked.mends ? report::RepairHint::leave_out : report::RepairHint::give;
  const auto json = [&] { return report::check_json(checked.image, checked.result); };
  const auto text = [&] { return report::check_text(checked.image, checked.result, hint); };
  tell_checked(checked, json, text);
  draw([&] { return report::check_figures(checked); });
}

void Reporter::tell_checked(const jobs::Checked& checked, const std::function<report::Json()>& json,
                            const std::function<std::string()>& text) {
  const bool asks_lists = session_.settings().has(jobs::kAgainst);
  if (asks_lists && (session_.wants_json() || session_.wants_report())) waiting_.emplace_back(json(), text());
  if (asks_lists && session_.wants_json()) return;
  if (checked.of_batch && !session_.wants_json()) {
    if (!asks_lists) session_.report_of(json, text);
    return session_.line(report::batch_line(step_, checked, since_.seconds()));
  }
  if (asks_lists) return session_.show(text());
  session_.result_of(json, text);
}

void Reporter::result(const jobs::Compared& compared) {
  session_.result(report::comparison_json(compared.here, compared.other, compared.comparison),
                  report::comparison_text(compared.here, compared.other, compared.comparison));
}

void Reporter::result(const jobs::Written& written) {
  const auto json = [&] { return report::written_json(written); };
  const auto text = [&] { return report::written_text(written); };
  if (!written.of_batch || session_.wants_json()) {
    session_.result_of(json, text);
  } else {
    session_.report_of(json, text);
    if (!written.planned_only) session_.line(report::batch_line(step_, written));
  }
  note_sizes(written);
}

void Reporter::result(const jobs::Listed& listed) {
  session_.result_of([&] { return report::files_json(listed); }, [&] { return report::files_text(listed, view_); });
  draw([&] { return report::icon_figures(listed); });
  draw([&] { return report::layout_figures(listed.image, identify_platform(listed.image)); });
}

void Reporter::result(const jobs::ExtractedFiles& files) {
  session_.result_of([&] { return report::extract_json(files); }, [&] { return report::extract_text(files); });
}

void Reporter::result(const jobs::Renamed& renamed) {
  const auto state = renamed.planned_only ? report::RenameState::planned : report::RenameState::done;
  std::string text = renamed.finished.empty() ? report::rename_text(renamed.plan, state)
                                              : "Finished what an interrupted job had begun:\n";
  for (const auto& file : renamed.finished) text += fmt::format("  {}\n", file.filename().string());
  session_.result(report::rename_json(renamed.plan), text);
}

void Reporter::result(const jobs::RecordTold& told) {
  session_.result_of([&] { return report::record_json(told); }, [&] { return report::record_told_text(told); });
}

void Reporter::result(const jobs::ShelfTold& told) {
  const auto* listed = std::get_if<jobs::ShelfListed>(&told.what);
  const auto json = [&] { return report::shelf_json(told); };
  const auto text = [&] { return report::shelf_text(told); };
  if (listed && listed->as_csv) {
    session_.report_of(json, text);
    report::shelf_csv(*listed, [&](const std::string& rows) { session_.line(rows); });
  } else {
    session_.result_of(json, text);
  }
  std::visit(
      [&](const auto& what) {
        if constexpr (requires { report::shelf_figures(what); }) draw([&] { return report::shelf_figures(what); });
      },
      told.what);
}

void Reporter::result(const jobs::RenamedByList& renamed) {
  session_.result_of([&] { return report::renamed_by_json(renamed); },
                     [&] { return report::renamed_by_text(renamed); });
}

/// What a record beside a dump has of the dump itself: a check by the record reads it.
report::Json Reporter::proof_of(const std::filesystem::path& lead, const std::vector<std::filesystem::path>& inputs,
                                const std::vector<std::filesystem::path>& outputs) {
  const jobs::Record record = jobs::record_of_dump(session_.begin_record(), lead, inputs, outputs, session_.context());
  return report::Json::parse(jobs::record_text(record, lead.parent_path()));
}

void Reporter::result(const jobs::Rescued& rescued) {
  report::Json json = report::written_json(rescued.written);
  report::add_rescue(json, rescued.rescue, rescued.inputs);
  const std::string text = report::written_text(rescued.written) + report::rescue_text(rescued.rescue, rescued.inputs);
  session_.result(json, text);
  draw([&] { return report::rescue_figures(rescued); });
  if (rescued.record_text.empty()) return;
  const auto dumps = jobs::files_behind(rescued.inputs, {});
  const auto& plan = rescued.written.conversion.plan;
  json["proof"] = proof_of(leading_file(plan, rescued.written.outputs).path, dumps, paths_of(rescued.written.outputs));
  const auto& [existing, inputs] = std::tie(rescued.rules.existing, rescued.rules.inputs);
  write_whole_file(rescued.record_text, report::plain_text(text), existing, inputs);
  write_whole_file(rescued.record_json, report::dump(report::record("rescue", json)), existing, inputs);
}

void Reporter::result(const jobs::Dumped& dumped) {
  if (dumped.begins) return session_.message(report::dump_plan_text(dumped.plan, report::DumpTense::now) + "\n");
  if (!dumped.result)
    return session_.result(report::dump_json(dumped.plan, nullptr), report::dump_plan_text(dumped.plan));
  report::Json json = report::dump_json(dumped.plan, dumped.result);
  json["known"] = report::answers_json(dumped.known);
  const std::string text =
      report::dump_text(dumped.plan, *dumped.result) + report::answers_text(dumped.known, dumped.plan.lead.string());
  session_.result(json, text);
  draw([&] { return report::dump_figures(dumped.plan, *dumped.result); });
  const jobs::DumpCompanions& files = dumped.companions;
  if (dumped.result->verdict != dump::DumpVerdict::intact)
    session_.message(fmt::format("the damaged sectors are listed in {}: opifex rescue uses it\n", files.map.string()));
  if (!files.record_text.empty()) {
    json["proof"] = proof_of(dumped.plan.lead, {}, paths_of(dumped.result->outputs));
    write_whole_file(files.record_text, report::plain_text(text), dumped.existing, dumped.inputs);
    write_whole_file(files.record_json, report::dump(report::record("dump", json)), dumped.existing, dumped.inputs);
  }
}

void Reporter::result(const jobs::DumpedCartridge& dumped) {
  if (dumped.begins)
    return session_.message(report::cartridge_plan_text(dumped.source, dumped.plan, report::DumpTense::now) + "\n");
  report::Json json = report::cartridge_dump_json(dumped.source, dumped.plan, dumped.result);
  json["known"] = report::answers_json(dumped.known);
  if (!dumped.result) return session_.result(json, report::cartridge_plan_text(dumped.source, dumped.plan));
  const std::string text = report::cartridge_dump_text(dumped.plan, *dumped.result) +
                           report::answers_text(dumped.known, dumped.plan.rom_file.string());
  session_.result(json, text);
  draw([&] { return report::cartridge_figures(dumped.plan, *dumped.result); });
  if (dumped.record_text.empty()) return;
  const bool has_rom = dumped.plan.rom_bytes > 0;
  json["proof"] =
      proof_of(has_rom ? dumped.plan.rom_file : dumped.plan.save_file, {}, paths_of(dumped.result->outputs));
  const std::string whole =
      report::cartridge_plan_text(dumped.source, dumped.plan, report::DumpTense::now) + "\n" + text;
  write_whole_file(dumped.record_text, report::plain_text(whole), dumped.existing, dumped.inputs);
  write_whole_file(dumped.record_json, report::dump(report::record("dump", json)), dumped.existing, dumped.inputs);
}

void Reporter::result(const jobs::PatchTold& patch) {
  session_.result(report::patch_json(patch), report::patch_text(patch));
}

void Reporter::result(const jobs::Changed& changed) {
  session_.result(report::changed_json(changed), report::changed_text(changed));
}

void Reporter::result(const jobs::SaveTold& save) { session_.result(report::save_json(save), report::save_text(save)); }

void Reporter::result(const jobs::Edited& edited) {
  session_.result(report::edit_json(edited), report::edit_text(edited));
}

void Reporter::result(const jobs::KnownTold& told) {
  if (!session_.wants_json()) session_.show(report::known_text(told));
  if (!session_.wants_json() && !session_.wants_report()) return;
  // A result for each image that was checked; files that are no images have one of their own.
  std::size_t next = 0;
  for (const jobs::KnownImage& image : told.images) {
    auto [json, text] =
        image.checked ? std::move(waiting_.at(next++)) : std::pair(report::Json{{"path", image.name}}, std::string());
    json["known"] = report::known_json(image, told);
    session_.told_in_text(json, text);
  }
  session_.known_lists(report::lists_known_json(told));
  draw([&] { return report::known_figures(told); });
}

void Reporter::result(const jobs::ListTold& told) { session_.result(report::list_json(told), report::list_text(told)); }

void Reporter::result(const jobs::MissingTold& told) {
  session_.result(report::missing_json(told), report::missing_text(told));
  draw([&] { return report::missing_figures(told); });
}

void Reporter::result(const jobs::ListMade& made) {
  session_.result(report::list_made_json(made), report::list_made_text(made));
}

void Reporter::result(const jobs::CopiedFolder& copied) {
  session_.result(report::folder_copy_json(copied.from, copied.into, copied.copy, copied.planned_only),
                  report::folder_copy_text(copied.from, copied.into, copied.copy, copied.planned_only));
}

void Reporter::message(const Warning& warning) {
  session_.message(fmt::format("opifex: {}\n", printable(report::warning_text(warning))));
}

void Reporter::planned(const jobs::BatchPlan& plan) {
  if (!plan.planned_only) return session_.message(report::batch_start_text(plan));
  if (!session_.wants_json()) session_.line(report::batch_plan_text(plan));
}

void Reporter::begins(const jobs::BatchStep& step) {
  step_ = step;
  since_ = {};
  session_.begins(step);
}

/// Of all conversions of a command there is one figure, drawn when the last is known; of a single one its density, too.
void Reporter::note_sizes(const jobs::Written& written) {
  if (!session_.wants_report() || written.planned_only) return;
  report::SizeChange change{printable(written.source.path.filename().string()), 0, 0};
  for (const ImageFile& file : written.source.files) change.before += file.size_bytes;
  for (const WrittenFile& file : written.outputs) change.after += file.size_bytes;
  sizes_.push_back(change);
  if (!written.of_batch) draw_written(written);
}

void Reporter::draw_written(const jobs::Written& written) {
  draw([&] { return report::size_figures(sizes_); });
  sizes_.clear();
  try {
    const Image output = open_image(leading_file(written.conversion.plan, written.outputs).path, OpenOptions{});
    draw([&] { return report::layout_figures(output, identify_platform(output)); });
    draw([&] { return report::density_figures(output, session_.context()); });
  } catch (const Error& e) {
    if (e.details.fault == Fault::interrupted) throw;  // what was written may be no image that opens by itself
  }
}

void Reporter::ended(const jobs::BatchSummary& summary) {
  draw([&] { return report::size_figures(sizes_); });
  sizes_.clear();
  session_.summary(report::batch_summary_json(summary));
  if (!session_.wants_json()) session_.line(report::batch_summary_text(summary));
}

}  // namespace opifex::cli
