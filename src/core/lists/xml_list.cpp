// The XML datafile, read by expat as it comes: no tree, no entity, nothing fetched. What expat finds goes to the
// builder piece by piece: measured, the builder takes two thirds of expat's time, and works beside it.
#include <atomic>
#include <thread>

#include <expat.h>
#include <tbb/concurrent_queue.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/lists/read_list.hpp"

#include "code_page.hpp"
#include "readers.hpp"

namespace opifex {
namespace {

constexpr std::size_t kFed = 1 << 20;  // bytes at a time

/// Something a list says, with its words among those of its piece.
struct XmlEvent {
  enum class Kind : std::uint8_t { header, begin_set, field, entry, end_set };
  Kind kind = Kind::header;
  ListedKind listed = ListedKind::rom;
  SetField field = SetField::name;
  std::uint64_t at = 0;                // byte of the list where it stands
  std::array<ListText, 9> texts = {};  // header: key, value; field: value; entry: as kEntryTexts has them
};

constexpr std::array<std::pair<std::string_view, std::string_view EntryText::*>, 9> kEntryTexts{
    {{"name", &EntryText::name},
     {"size", &EntryText::size},
     {"crc", &EntryText::crc},
     {"md5", &EntryText::md5},
     {"sha1", &EntryText::sha1},
     {"sha256", &EntryText::sha256},
     {"status", &EntryText::status},
     {"serial", &EntryText::serial},
     {"merge", &EntryText::merge}}};

struct XmlEvents {
  std::vector<XmlEvent> events;
  std::string texts;

  XmlEvent& add(XmlEvent::Kind kind, std::uint64_t at) {
    events.push_back({.kind = kind, .at = at});
    return events.back();
  }
  ListText keep(std::string_view text) {
    const ListText kept{static_cast<std::uint32_t>(texts.size()), static_cast<std::uint32_t>(text.size())};
    texts += text;
    return kept;
  }
  std::string_view text(ListText t) const { return std::string_view(texts).substr(t.at, t.size); }
  void clear() {
    events.clear();
    texts.clear();
  }
};

/// The lines of a list, counted only as far as somebody asks, and forwards.
class LineCounter {
 public:
  LineCounter(const ByteSource& source, std::size_t unit, bool big) : source_(source), unit_(unit), big_(big) {}

  std::uint64_t line_at(std::uint64_t offset) {
    while (at_ + unit_ <= offset) {
      const std::uint64_t left = offset - at_;
      const Bytes piece = read_up_to(source_, at_, static_cast<std::size_t>(std::min<std::uint64_t>(left, kFed)));
      const std::size_t whole = piece.size() / unit_ * unit_;
      if (whole == 0) break;
      for (std::size_t i = 0; i < whole; i += unit_) count(piece, i);
      at_ += whole;
    }
    return lines_;
  }

 private:
  /// "\r\n" is one end of a line.
  void count(ByteView piece, std::size_t i) {
    const std::byte low = piece[unit_ == 2 && big_ ? i + 1 : i];
    const bool plain = unit_ == 1 || piece[big_ ? i : i + 1] == std::byte{0};
    const bool feed = plain && low == std::byte{'\n'}, back = plain && low == std::byte{'\r'};
    if (back || (feed && !after_return_)) ++lines_;
    after_return_ = back;
  }

  const ByteSource& source_;
  std::size_t unit_;
  bool big_;
  std::uint64_t at_ = 0, lines_ = 1;
  bool after_return_ = false;
};

/// Gives a piece's events to the builder.
void take_events(const XmlEvents& piece, ListBuilder& builder, std::uint64_t& at) {
  for (const XmlEvent& event : piece.events) {
    at = event.at;
    switch (event.kind) {
      case XmlEvent::Kind::header:
        builder.header(piece.text(event.texts[0]), piece.text(event.texts[1]));
        break;
      case XmlEvent::Kind::begin_set:
        builder.begin_set();
        break;
      case XmlEvent::Kind::field:
        builder.set_field(event.field, piece.text(event.texts[0]));
        break;
      case XmlEvent::Kind::entry: {
        EntryText entry;
        entry.kind = event.listed;
        for (std::size_t i = 0; i < kEntryTexts.size(); ++i) entry.*kEntryTexts[i].second = piece.text(event.texts[i]);
        builder.add(entry);
        break;
      }
      case XmlEvent::Kind::end_set:
        builder.end_set();
        break;
    }
  }
}

class XmlReader {
 public:
  XmlReader(const ByteSource& source, ListBuilder& builder) : source_(source), builder_(builder) {
    XML_SetUserData(parser_.get(), this);
    XML_SetElementHandler(parser_.get(), &XmlReader::on_start, &XmlReader::on_end);
    XML_SetCharacterDataHandler(parser_.get(), &XmlReader::on_text);
    XML_SetEntityDeclHandler(parser_.get(), &XmlReader::on_entity);
    XML_SetStartDoctypeDeclHandler(parser_.get(), &XmlReader::on_doctype);
    XML_SetSkippedEntityHandler(parser_.get(), &XmlReader::on_skipped);
    XML_SetUnknownEncodingHandler(parser_.get(), &XmlReader::on_encoding, nullptr);
    const Bytes mark = read_up_to(source, 0, 2);
    big_ = as_text(mark) == "\xFE\xFF";
    wide_ = big_ || as_text(mark) == "\xFF\xFE";
  }

  XmlReader(const XmlReader&) = delete;
  XmlReader& operator=(const XmlReader&) = delete;
  ~XmlReader() {
    builder_.set_line([last = line()] { return last; });
  }

  void run() {
    LineCounter lines(source_, wide_ ? 2 : 1, big_);
    std::uint64_t at = 0;  // of the event that the builder has
    builder_.set_line([&] { return lines.line_at(at); });
    // Not a pipeline of the common kind: measured, with tasks that take turns the parser waits a tenth of its time.
    Pieces pieces, emptied;
    pieces.set_capacity(kInFlight);
    std::exception_ptr refused, cut;
    std::atomic<bool> stopped{false};
    std::thread builds([&] {
      XmlEventsPtr piece;
      for (pieces.pop(piece); piece; pieces.pop(piece)) {
        if (stopped) continue;  // whoever fills must not wait for room
        try {
          take_events(*piece, builder_, at);
          emptied.push(std::move(piece));
        } catch (...) {
          refused = std::current_exception();
          stopped = true;
        }
      }
    });
    try {
      for (XmlEventsPtr events = next_empty(emptied); !stopped && feed(*events); events = next_empty(emptied))
        pieces.push(std::move(events));
    } catch (...) {
      cut = std::current_exception();
    }
    pieces.push(nullptr);
    builds.join();
    // What the builder refuses stands before whatever the parser has come to.
    if (refused) std::rethrow_exception(refused);
    if (cut) std::rethrow_exception(cut);
  }

 private:
  using XmlEventsPtr = std::unique_ptr<XmlEvents>;
  using Pieces = tbb::concurrent_bounded_queue<XmlEventsPtr>;
  static constexpr std::ptrdiff_t kInFlight = 4;

  /// One that was used before, as far as there is one: each takes two megabytes.
  static XmlEventsPtr next_empty(Pieces& emptied) {
    XmlEventsPtr events;
    if (!emptied.try_pop(events)) return std::make_unique<XmlEvents>();
    events->clear();
    return events;
  }

  /// The events of the next piece; false at the end.
  bool feed(XmlEvents& events) {
    if (fed_ >= source_.size()) return false;
    events_ = &events;
    const auto size = static_cast<std::size_t>(std::min<std::uint64_t>(kFed, source_.size() - fed_));
    buffer_.resize(std::max(buffer_.size(), size));
    const std::span<std::byte> piece = std::span(buffer_).first(size);
    source_.read_at(fed_, piece);
    fed_ += size;
    const auto status = XML_Parse(parser_.get(), reinterpret_cast<const char*>(piece.data()),
                                  static_cast<int>(piece.size()), fed_ >= source_.size());
    if (thrown_) std::rethrow_exception(thrown_);
    if (status != XML_STATUS_OK) not_well_formed();
    // A token that is still open is scanned again with each piece.
    const XML_Index done = XML_GetCurrentByteIndex(parser_.get());
    if (done >= 0 && fed_ - static_cast<std::uint64_t>(done) > ListLimits::kToken + kFed) token_too_long();
    return true;
  }

  static XmlReader& self(void* data) { return *static_cast<XmlReader*>(data); }

  /// Errors must not pass through expat: the parser is stopped, and run() throws.
  template <typename Action>
  void guarded(const Action& action) {
    if (thrown_) return;
    try {
      action();
    } catch (...) {
      thrown_ = std::current_exception();
      XML_StopParser(parser_.get(), XML_FALSE);
    }
  }

  static void XMLCALL on_start(void* data, const XML_Char* name, const XML_Char** attributes) {
    self(data).guarded([&] { self(data).start(name, attributes); });
  }
  static void XMLCALL on_end(void* data, const XML_Char*) {
    self(data).guarded([&] { self(data).end(); });
  }
  static void XMLCALL on_text(void* data, const XML_Char* text, int size) {
    self(data).guarded([&] { self(data).text({text, static_cast<std::size_t>(size)}); });
  }
  static void XMLCALL on_entity(void* data, const XML_Char*, int, const XML_Char*, int, const XML_Char*,
                                const XML_Char*, const XML_Char*, const XML_Char*) {
    self(data).guarded([&] {
      refuse_list(self(data).builder_.file(), "entity_declaration", self(data).line(),
                  "this list declares an entity, which no list needs: it could stand for anything",
                  "remove the <!ENTITY ...> if you trust where the list comes from");
    });
  }
  static void XMLCALL on_doctype(void* data, const XML_Char*, const XML_Char* system, const XML_Char*, int) {
    self(data).has_external_ = system != nullptr;
  }
  /// With a DOCTYPE that is not fetched expat leaves unknown entities out, and the text would read as if it were whole.
  static void XMLCALL on_skipped(void* data, const XML_Char* name, int) {
    self(data).guarded([&] {
      refuse_list(self(data).builder_.file(), "not_well_formed", self(data).line(),
                  fmt::format("the entity &{}; is not declared", printable(name)));
    });
  }
  static int XMLCALL on_encoding(void*, const XML_Char* name, XML_Encoding* info) {
    if (to_upper_ascii(name) != "WINDOWS-1252") return XML_STATUS_ERROR;
    for (int i = 0; i < 256; ++i) info->map[i] = windows_1252_code(static_cast<unsigned char>(i));
    info->data = nullptr;
    info->convert = nullptr;
    info->release = nullptr;
    return XML_STATUS_OK;
  }

  std::uint64_t here() const {
    return static_cast<std::uint64_t>(std::max<XML_Index>(0, XML_GetCurrentByteIndex(parser_.get())));
  }
  XmlEvent& event(XmlEvent::Kind kind) { return events_->add(kind, here()); }
  void field(SetField field, std::string_view value) {
    const ListText kept = events_->keep(value);
    XmlEvent& e = event(XmlEvent::Kind::field);
    e.field = field;
    e.texts[0] = kept;
  }

  std::uint64_t line() const { return XML_GetCurrentLineNumber(parser_.get()); }

  [[noreturn]] void token_too_long() const {
    refuse_list(builder_.file(), "token_too_long", line(), "a tag or an attribute of this list is longer than 64 KiB");
  }

  [[noreturn]] void not_well_formed() const {
    const XML_Error error = XML_GetErrorCode(parser_.get());
    const bool encoding = error == XML_ERROR_UNKNOWN_ENCODING || error == XML_ERROR_INCORRECT_ENCODING;
    const bool cut = error == XML_ERROR_NO_ELEMENTS || error == XML_ERROR_UNCLOSED_TOKEN;
    refuse_list(
        builder_.file(), encoding ? "bad_encoding" : "not_well_formed", line(),
        fmt::format("this XML list cannot be read: {}{}", XML_ErrorString(error), cut ? ", it may be cut off" : ""));
  }

  /// The tag with a question mark for every character beyond ASCII.
  std::string ascii_of(std::string_view raw) const {
    std::string out;
    for (std::size_t i = 0; i + 1 < raw.size(); i += 2) {
      const char high = raw[big_ ? i : i + 1], low = raw[big_ ? i + 1 : i];
      out.push_back(high == '\0' && static_cast<unsigned char>(low) < 0x80 ? low : '?');
    }
    return out;
  }

  /// Of an attribute expat tells nobody that it left an entity out. Every declaration is refused, so that none but
  /// these five can be right.
  void refuse_entities() const {
    int offset = 0, size = 0;
    const char* context = XML_GetInputContext(parser_.get(), &offset, &size);
    const int count = XML_GetCurrentByteCount(parser_.get());
    if (!context || count <= 0 || count > size - offset) return;
    const std::string_view raw(context + offset, static_cast<std::size_t>(count));
    const std::string plain = wide_ ? ascii_of(raw) : std::string();
    const std::string_view tag = wide_ ? plain : raw;
    for (std::size_t at = tag.find('&'); at != std::string::npos; at = tag.find('&', at + 1)) {
      const std::string_view rest = tag.substr(at + 1);
      constexpr std::array<std::string_view, 6> kRight{"#", "amp;", "lt;", "gt;", "quot;", "apos;"};
      if (std::none_of(kRight.begin(), kRight.end(), [&](std::string_view r) { return rest.starts_with(r); }))
        refuse_list(builder_.file(), "not_well_formed", line(), "an entity that is not declared stands in a tag");
    }
  }

  void start(const char* name, const XML_Char** attributes) {
    if (has_external_) refuse_entities();
    if (static_cast<std::size_t>(XML_GetCurrentByteCount(parser_.get())) > ListLimits::kToken) token_too_long();
    if (++depth_ > ListLimits::kDepth)
      refuse_list(builder_.file(), "too_deep", line(), "elements lie in elements more than 32 deep");
    const std::string_view element(name);
    if (depth_ == 1 && element != "datafile")
      refuse_list(builder_.file(), "wrong_root", line(),
                  fmt::format("this is XML, but no list: its root is <{}>", printable(element.substr(0, 60))),
                  element == "html" || element == "HTML" ? "it is a web page: fetch the list itself" : "");
    text_.clear();
    text_size_ = 0;
    collects_ = false;
    if (depth_ == 2 && element == "header") return void(in_header_ = true);
    if (depth_ == 2 && (element == "game" || element == "machine")) return start_set(attributes);
    if (in_header_ && depth_ == 3) return collect(element);
    if (!in_set_) return;
    if (element == "rom" || element == "disk")
      return add(element == "rom" ? ListedKind::rom : ListedKind::disk, attributes);
    if (depth_ == 3) collect(element);
  }

  void collect(std::string_view element) {
    collects_ = true;
    field_ = element;
  }

  void start_set(const XML_Char** attributes) {
    event(XmlEvent::Kind::begin_set);
    in_set_ = true;
    for (std::size_t i = 0; attributes[i]; i += 2)
      for (const SetField f : {SetField::name, SetField::cloneof, SetField::romof, SetField::id})
        if (to_string(f) == attributes[i]) field(f, attributes[i + 1]);
  }

  void add(ListedKind kind, const XML_Char** attributes) {
    XmlEvent& entry = event(XmlEvent::Kind::entry);
    entry.listed = kind;
    for (std::size_t i = 0; attributes[i]; i += 2) {
      const std::string_view attribute(attributes[i]);
      for (std::size_t t = 0; t < kEntryTexts.size(); ++t)
        if (kEntryTexts[t].first == attribute) {
          entry.texts[t] = events_->keep(attributes[i + 1]);
          break;
        }
    }
  }

  void text(std::string_view more) {
    text_size_ += more.size();
    if (text_size_ > ListLimits::kElementText)
      refuse_list(builder_.file(), "token_too_long", line(), "the text of an element is longer than 128 KiB");
    if (collects_) text_ += more;
  }

  void end() {
    if (collects_ && depth_ == 3) take_text();
    collects_ = false;
    text_size_ = 0;
    if (depth_ == 2 && in_set_) event(XmlEvent::Kind::end_set), in_set_ = false;
    if (depth_ == 2) in_header_ = false;
    --depth_;
  }

  void take_text() {
    const std::string_view value = trim(text_);
    if (in_header_) {
      const ListText key = events_->keep(field_), kept = events_->keep(value);
      XmlEvent& e = event(XmlEvent::Kind::header);
      e.texts[0] = key;
      e.texts[1] = kept;
      return;
    }
    for (const SetField f :
         {SetField::description, SetField::year, SetField::manufacturer, SetField::category, SetField::serial})
      if (to_string(f) == field_) return field(f, value);
  }

  struct Free {
    void operator()(XML_Parser parser) const { XML_ParserFree(parser); }
  };
  const ByteSource& source_;
  ListBuilder& builder_;
  Bytes buffer_;                 // of a piece
  std::uint64_t fed_ = 0;        // bytes
  XmlEvents* events_ = nullptr;  // of the piece that is being read
  std::unique_ptr<std::remove_pointer_t<XML_Parser>, Free> parser_{XML_ParserCreate(nullptr)};
  std::exception_ptr thrown_;
  int depth_ = 0;
  bool wide_ = false, big_ = false;  // UTF-16
  bool has_external_ = false;        // the DOCTYPE has an address, which is not fetched
  bool in_header_ = false, in_set_ = false;
  bool collects_ = false;  // the text of the element that is open
  std::string field_, text_;
  std::size_t text_size_ = 0;
};

}  // namespace

void read_xml_list(const ByteSource& source, ListBuilder& builder) { XmlReader(source, builder).run(); }

}  // namespace opifex
