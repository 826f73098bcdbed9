#include "opifex/report/json.hpp"

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/report/cartridge.hpp"
#include "opifex/report/text.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

Json hashes_json(const std::vector<NamedHash>& hashes) {
  Json json = Json::object();
  for (const NamedHash& h : hashes)
    if (!h.value.empty()) json[h.name] = h.value;
  return json;
}

Json or_null(const std::string& text) { return text.empty() ? Json() : Json(text); }

Json tracks_json(const Image& image) {
  Json tracks = Json::array();
  if (!image.cd()) return tracks;
  bool placed = true;  // behind a track of unknown length nothing has a known place
  for (const cd::Track& t : image.cd()->layout().tracks) {
    const ImageFile* file = image.file_of(t);
    Json indexes = Json::object();
    for (const auto& [number, lba] : t.indexes) indexes[fmt::format("{:02}", number)] = lba;
    tracks.push_back(
        {{"number", t.number},
         {"mode", cd::to_string(t.mode)},
         {"session", t.session},
         {"start_lba", placed ? Json(t.start_lba) : Json()},
         {"start_msf", placed ? Json(cd::to_string(cd::msf_of_lba(t.start_lba))) : Json()},
         {"pregap_sectors", t.start_lba - t.pregap_lba},
         {"length_sectors", t.incomplete ? Json() : Json(t.length())},
         {"length_bytes", t.incomplete ? Json() : Json(static_cast<std::int64_t>(t.length()) * t.mode.sector_bytes)},
         {"file", file ? Json(file->path.string()) : Json()},
         {"indexes", indexes},
         {"isrc", or_null(t.isrc)},
         {"title", or_null(cd::find_text(t.texts, "TITLE").value_or(""))}});
    placed = placed && !t.incomplete;
  }
  return tracks;
}

Json optional_number(const auto& value) { return value ? Json(*value) : Json(); }

}  // namespace

Json to_json(const ErrorDetails& e, int exit_code) {
  return {{"code", e.code},
          {"what", e.what},
          {"file", or_null(e.file)},
          {"offset", optional_number(e.offset)},
          {"line", optional_number(e.line)},
          {"found", or_null(e.found)},
          {"expected", or_null(e.expected)},
          {"try", or_null(hint_text(e.hint))},
          {"exit", exit_code}};
}

Json to_json(const std::vector<Warning>& warnings) {
  Json json = Json::array();
  for (const Warning& w : warnings) json.push_back({{"code", w.code}, {"message", warning_text(w)}});
  return json;
}

Json to_json(const std::vector<Loss>& losses) {
  Json json = Json::array();
  for (const Loss& loss : losses)
    json.push_back({{"kind", loss.kind},
                    {"content", is_content_loss(loss.kind)},
                    {"where", loss.where},
                    {"detail", loss.detail},
                    {"accepted", loss.accepted}});
  return json;
}

namespace {

Json container_json(const Image& image) {
  if (!image.container) return nullptr;
  Json json = Json::object(), codecs = Json::array(), tags = Json::array();
  for (const ContainerFact& fact : image.container->facts())
    json[fact.key] = fact.number ? Json(*fact.number) : or_null(fact.value);
  for (const ContainerShare& s : image.container->shares())
    codecs.push_back({{"codec", s.codec}, {"hunks", s.hunks}, {"size_bytes", s.bytes}});
  for (const ContainerTag& t : image.container->tags())
    tags.push_back({{"tag", t.name},
                    {"flags", t.flags},
                    {"offset", t.offset},
                    {"size_bytes", t.size_bytes},
                    {"text", or_null(t.text)}});
  json["stored_as"] = codecs;
  json["tags"] = tags;
  return json;
}

}  // namespace

namespace {

Json partitions_json(const Identity& id) {
  Json partitions = Json::array();
  for (const Identity::Partition& p : id.partitions)
    partitions.push_back({{"kind", p.kind},
                          {"offset", p.offset},
                          {"size_bytes", p.size_bytes == 0 ? Json() : Json(p.size_bytes)},
                          {"encrypted", p.encrypted},
                          {"key", or_null(p.key)},
                          {"blank", p.blank},
                          {"title_id", or_null(p.title_id)},
                          {"title", or_null(p.title)},
                          {"files", optional_number(p.files)}});
  return partitions;
}

}  // namespace

Json identify_json(const Image& image, const Identity& id) {
  Json also = Json::array();
  for (const auto& a : id.also) also.push_back({{"platform", a.platform}, {"confidence", a.confidence}});
  Json parts = Json::array();
  for (const ImageFile& file : image.files)
    parts.push_back({{"path", file.path.string()},
                     {"type", file.type},
                     {"size_bytes", file.size_bytes},
                     {"missing", file.missing}});
  Json cut = Json::array();
  for (const auto& part : image.parts) cut.push_back(part.string());
  Json regions = Json::array();
  for (const Identity::Region& r : id.encrypted_regions)
    regions.push_back({{"first_lba", r.first}, {"last_lba", r.last}});
  Json warnings = to_json(image.warnings);
  for (Json& w : to_json(id.warnings)) warnings.push_back(std::move(w));
  Json sessions = Json::array();
  if (image.cd())
    for (const cd::Session& s : image.cd()->layout().sessions)
      sessions.push_back({{"number", s.number},
                          {"first_track", s.first_track},
                          {"last_track", s.last_track},
                          {"lead_out_lba", s.lead_out}});
  return {{"path", image.path.string()},
          {"format", image.format->id},
          {"platform", or_null(id.platform)},
          {"title", or_null(id.title)},
          {"serial", or_null(id.serial)},
          {"title_id", or_null(id.title_id)},
          {"short_id", or_null(id.short_id)},
          {"media_id", or_null(id.media_id)},
          {"region", or_null(id.region)},
          {"disc", or_null(id.disc)},
          {"maker", or_null(id.maker)},
          {"date", or_null(id.date)},
          {"video", or_null(id.video)},
          {"category", or_null(id.category)},
          {"state", or_null(id.state)},
          {"encrypted_regions", regions},
          {"also", also},
          {"version", or_null(id.version)},
          {"volume", or_null(id.volume)},
          {"size_bytes", image.size_bytes()},
          {"complete", image.complete},
          {"confidence", or_null(id.confidence)},
          {"evidence", id.evidence},
          {"catalogue", image.cd() ? or_null(image.cd()->layout().catalogue) : Json()},
          {"lead_out_lba", image.cd() ? Json(image.cd()->layout().lead_out) : Json()},
          {"sessions", sessions},
          {"tracks", tracks_json(image)},
          {"container", container_json(image)},
          {"partitions", partitions_json(id)},
          {"medium", or_null(id.medium)},
          {"scrubbed", optional_number(id.scrubbed)},
          {"padding", or_null(id.padding)},
          {"used_bytes", optional_number(id.used_bytes)},
          {"files_inside", optional_number(id.files)},
          {"parts", parts},
          {"split_files", cut},
          {"cartridge", id.rom ? cartridge_json(*id.rom) : Json()},
          {"warnings", warnings}};
}

namespace {

Json other_forms_json(const CheckResult& result) {
  Json forms = Json::array();
  for (const OtherForm& form : result.others)
    forms.push_back({{"track", form.track == 0 ? Json() : Json(form.track)},
                     {"through", form.through},
                     {"size_bytes", form.file.size_bytes},
                     {"hashes", hashes_json(form.file.hashes)}});
  return forms;
}

}  // namespace

Json check_json(const Image& image, const CheckResult& result) {
  Json files = Json::array(), tracks = Json::array(), findings = Json::array(), disc;
  if (result.disc) disc = {{"size_bytes", result.disc->size_bytes}, {"hashes", hashes_json(result.disc->hashes)}};
  Json cartridge;
  if (result.rom && result.rom_facts) {
    cartridge = cartridge_json(*result.rom_facts);
    cartridge["size_bytes"] = result.rom->size_bytes;
    cartridge["hashes"] = hashes_json(result.rom->hashes);
  }
  for (const FileCheck& f : result.files)
    files.push_back({{"path", f.path.string()}, {"size_bytes", f.size_bytes}, {"hashes", hashes_json(f.hashes)}});
  for (const TrackCheck& t : result.tracks) {
    Json ranges = Json::array();
    for (const DamagedRange& r : t.ranges)
      ranges.push_back({{"lba", r.first},
                        {"msf", cd::to_string(cd::msf_of_lba(r.first))},
                        {"count", r.sectors},
                        {"damage", to_string(r.damage)},
                        {"problems", cd::problem_list(r.problems)},
                        {"repairable", r.repairable}});
    tracks.push_back({{"number", t.number},
                      {"mode", cd::to_string(t.mode)},
                      {"verdict", to_string(t.verdict)},
                      {"sectors", t.sectors},
                      {"size_bytes", t.size_bytes},
                      {"kinds", t.kinds},
                      {"bad", t.bad},
                      {"repairable", t.repairable},
                      {"authored", t.authored},
                      {"ranges", ranges},
                      {"hashes", hashes_json(t.hashes)}});
  }
  for (const Finding& f : result.findings)
    findings.push_back({{"code", f.code},
                        {"severity", to_string(f.severity)},
                        {"message", f.message},
                        {"file", or_null(f.file)},
                        {"offset", optional_number(f.offset)},
                        {"lba", optional_number(f.lba)},
                        {"count", f.count},
                        {"files", f.files}});
  return {{"path", image.path.string()},
          {"format", image.format->id},
          {"verdict", to_string(result.verdict)},
          {"hashes", result.files.size() == 1 ? hashes_json(result.files.front().hashes) : Json::object()},
          {"files", files},
          {"disc", disc},
          {"whole", result.whole
                        ? Json{{"size_bytes", result.whole->size_bytes}, {"hashes", hashes_json(result.whole->hashes)}}
                        : Json()},
          {"other_forms", other_forms_json(result)},
          {"cartridge", cartridge},
          {"tracks", tracks},
          {"findings", findings},
          {"known", nullptr}};
}

Json rename_json(const RenamePlan& plan) {
  Json steps = Json::array();
  for (const RenameStep& s : plan.steps) steps.push_back({{"from", s.from.string()}, {"to", s.to.string()}});
  if (plan.sheet)
    steps.push_back({{"from", plan.sheet->from.string()}, {"to", plan.sheet->to.string()}, {"rewritten", true}});
  return {{"renames", steps}};
}

Json written_json(const jobs::Written& job) {
  const Conversion& conversion = job.conversion;
  Json inputs = Json::array(), outputs = Json::array();
  for (const auto& path : input_paths(job.source)) inputs.push_back(path.string());
  for (const WrittenFile& f : job.outputs) {
    Json output = {{"path", f.path.string()}, {"size_bytes", f.size_bytes}};
    if (!f.sha1.empty()) output["sha1"] = f.sha1;
    outputs.push_back(output);
  }
  return {{"inputs", inputs},
          {"outputs", outputs},
          {"losses", to_json(conversion.losses)},
          {"steps", conversion.plan.steps},
          {"warnings", to_json(conversion.warnings)},
          {"planned_only", job.planned_only},
          {"proof_sha1", or_null(job.proof.sha1)},
          {"proof_compared", or_null(job.proof.compared)},
          {"seconds", job.seconds}};
}

namespace {

/// As it stands so many blanks deep in a document, without them in its first line.
std::string indented(const Json& value, std::size_t blanks) {
  std::string text;
  for (const char c : dump(value)) {
    text += c;
    if (c == '\n') text.append(blanks, ' ');
  }
  text.resize(text.size() - blanks - 1);
  return text;
}

constexpr std::size_t kResultDepth = 4, kListDepth = 8;  // blanks

void print_list(std::ostream& out, const LongResult& result) {
  bool any = false;
  while (const std::optional<Json> item = result.next()) {
    out << (any ? ",\n" : "[\n") << std::string(kListDepth, ' ') << indented(*item, kListDepth);
    any = true;
  }
  out << (any ? "\n" + std::string(kListDepth - 2, ' ') + "]" : "[]");
}

}  // namespace

void DocumentPrinter::begin() {
  out_ << "{\n  \"opifex\": 1,\n  \"command\": " << indented(Json(command_), 0) << ",\n  \"results\": [";
}

void DocumentPrinter::add(const LongResult& result) {
  if (results_++ == 0) begin();
  out_ << (results_ == 1 ? "\n" : ",\n") << std::string(kResultDepth, ' ');
  if (!result.next) {
    out_ << indented(result.result, kResultDepth);
    return;
  }
  const char* before = "{\n";
  for (const auto& [key, value] : result.result.items()) {
    out_ << before << std::string(kListDepth - 2, ' ') << indented(Json(key), 0) << ": ";
    key == result.key ? print_list(out_, result) : void(out_ << indented(value, kListDepth - 2));
    before = ",\n";
  }
  out_ << "\n" << std::string(kResultDepth, ' ') << "}";
}

void DocumentPrinter::finish(const Json& errors, const Json& summary, const Json& lists, const Json& report) {
  if (results_ == 0) begin();
  out_ << (results_ == 0 ? "]" : "\n  ]");
  if (!summary.is_null()) out_ << ",\n  \"summary\": " << indented(summary, 2);
  if (!lists.is_null()) out_ << ",\n  \"lists\": " << indented(lists, 2);
  out_ << ",\n  \"errors\": " << indented(errors, 2);
  if (!report.is_null()) out_ << ",\n  \"report\": " << indented(report, 2);
  out_ << "\n}\n";
}

std::string dump(const Json& document) {
  const std::string text = document.dump(2, ' ', false, Json::error_handler_t::replace);
  // JSON lets through what steers a terminal; inside its strings each such character has an escape.
  std::string out;
  out.reserve(text.size() + 1);
  for (std::size_t at = 0; at < text.size();) {
    const auto lead = static_cast<unsigned char>(text[at]);
    const std::size_t n = lead < 0x80 ? 1 : lead >= 0xF0 ? 4 : lead >= 0xE0 ? 3 : 2;
    char32_t c = n == 1 ? lead : lead & (0x7Fu >> n);
    for (std::size_t i = 1; i < n; ++i) c = c << 6 | (static_cast<unsigned char>(text[at + i]) & 0x3Fu);
    if (c != '\n' && steers_terminal(c))
      out += fmt::format("\\u{:04x}", static_cast<std::uint32_t>(c));
    else
      out += text.substr(at, n);
    at += n;
  }
  return out + "\n";
}

}  // namespace opifex::report
