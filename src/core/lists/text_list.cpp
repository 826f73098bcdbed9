// The older form: word ( key value ... ), with blocks in blocks.
#include "opifex/core/base/text.hpp"
#include "opifex/core/lists/read_list.hpp"

#include "lines.hpp"
#include "readers.hpp"

namespace opifex {
namespace {

enum class TokenKind { word, quoted, open, close };

struct Token {
  TokenKind kind = TokenKind::word;
  std::string text;
  std::uint64_t line = 0;
};

/// White space parts tokens; a parenthesis is one only if it stands alone.
class Tokens {
 public:
  Tokens(const ByteSource& source, const std::string& file) : lines_(source, file), file_(file) {}

  std::optional<Token> next() {
    for (;;) {
      const std::size_t at = rest_.find_first_not_of(" \t\v\f\x1A");
      if (at != std::string_view::npos) {
        rest_.remove_prefix(at);
        break;
      }
      const auto line = lines_.next();
      if (!line) return std::nullopt;
      rest_ = *line;
    }
    if (rest_.front() == '"') return quoted();
    const std::size_t end = std::min(rest_.find_first_of(" \t\v\f"), rest_.size());
    Token token{TokenKind::word, std::string(rest_.substr(0, end)), lines_.line()};
    if (token.text == "(") token.kind = TokenKind::open;
    if (token.text == ")") token.kind = TokenKind::close;
    rest_.remove_prefix(end);
    return token;
  }

  std::uint64_t line() const { return lines_.line(); }

 private:
  Token quoted() {
    Token token{TokenKind::quoted, {}, lines_.line()};
    for (std::size_t i = 1; i < rest_.size(); ++i) {
      const char c = rest_[i];
      if (c == '"') {
        rest_.remove_prefix(i + 1);
        return token;
      }
      const bool escapes = c == '\\' && i + 1 < rest_.size() && (rest_[i + 1] == '"' || rest_[i + 1] == '\\');
      token.text.push_back(escapes ? rest_[++i] : c);
    }
    refuse_list(file_, "unterminated_quote", lines_.line(), "a quoted text does not end on its line");
  }

  ListLines lines_;
  std::string file_;
  std::string_view rest_;  // of the line
};

class TextReader {
 public:
  TextReader(const ByteSource& source, ListBuilder& builder) : tokens_(source, builder.file()), builder_(builder) {
    builder.set_line([this] { return tokens_.line(); });
  }
  TextReader(const TextReader&) = delete;
  TextReader& operator=(const TextReader&) = delete;
  ~TextReader() {
    builder_.set_line([last = tokens_.line()] { return last; });
  }

  void run() {
    while (const auto word = tokens_.next()) {
      if (word->kind != TokenKind::word) bad_structure(word->line, "a block begins with a word");
      const Token open = need_token();
      if (open.kind != TokenKind::open) bad_structure(open.line, "behind the word of a block stands no (");
      const std::string name = fold_case(word->text);
      if (name == "game" || name == "machine" || name == "resource")
        read_set();
      else if (!std::exchange(header_seen_, true))
        read_pairs(1, [&](const std::string& key, const std::string& value) { builder_.header(key, value); });
      else
        skip_block(1);
    }
  }

 private:
  [[noreturn]] void bad_structure(std::uint64_t line, const char* what) const {
    refuse_list(builder_.file(), "bad_structure", line, std::string("the list does not hold together: ") + what);
  }

  Token need_token() {
    auto token = tokens_.next();
    if (!token)
      refuse_list(builder_.file(), "unbalanced", tokens_.line(), "the list ends inside a block: it may be cut off");
    return std::move(*token);
  }

  void require_depth(int depth, std::uint64_t line) const {
    if (depth > ListLimits::kDepth)
      refuse_list(builder_.file(), "too_deep", line, "blocks lie in blocks more than 32 deep");
  }

  /// The pairs up to the block's end; blocks inside go to `block`, which reads them.
  template <typename Value, typename Block>
  void read_block(int depth, const Value& take_value, const Block& block) {
    for (;;) {
      const Token key = need_token();
      if (key.kind == TokenKind::close) return;
      if (key.kind != TokenKind::word) bad_structure(key.line, "a key is no word");
      const std::string name = fold_case(key.text);
      const Token value = need_token();
      if (value.kind == TokenKind::close) bad_structure(value.line, "a key has no value");
      if (value.kind == TokenKind::open) {
        require_depth(depth + 1, value.line);
        block(name, value.line);
      } else {
        take_value(name, value.text);
      }
    }
  }

  void skip_block(int depth) {
    read_block(
        depth, [](const std::string&, const std::string&) {},
        [&](const std::string&, std::uint64_t) { skip_block(depth + 1); });
  }

  /// Blocks inside are skipped.
  template <typename Value>
  void read_pairs(int depth, const Value& take_value) {
    read_block(depth, take_value, [&](const std::string&, std::uint64_t) { skip_block(depth + 1); });
  }

  void read_set() {
    builder_.begin_set();
    read_block(
        1,
        [&](const std::string& key, const std::string& value) {
          for (std::size_t i = 0; i < kSetFields; ++i)
            if (to_string(static_cast<SetField>(i)) == key) builder_.set_field(static_cast<SetField>(i), value);
        },
        [&](const std::string& key, std::uint64_t) {
          if (key == "rom" || key == "disk")
            read_entry(key == "rom" ? ListedKind::rom : ListedKind::disk);
          else
            skip_block(2);
        });
    builder_.end_set();
  }

  void read_entry(ListedKind kind) {
    std::map<std::string, std::string> values;
    // "flags" is the older word for the status.
    read_pairs(2, [&](const std::string& key, const std::string& value) {
      values.emplace(key == "flags" ? "status" : key, value);
    });
    builder_.add({.name = values["name"],
                  .size = values["size"],
                  .crc = values["crc"],
                  .md5 = values["md5"],
                  .sha1 = values["sha1"],
                  .sha256 = values["sha256"],
                  .status = values["status"],
                  .serial = values["serial"],
                  .merge = values["merge"],
                  .kind = kind});
  }

  Tokens tokens_;
  ListBuilder& builder_;
  bool header_seen_ = false;
};

}  // namespace

void read_text_list(const ByteSource& source, ListBuilder& builder) { TextReader(source, builder).run(); }

}  // namespace opifex
