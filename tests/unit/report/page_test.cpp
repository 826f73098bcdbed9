// The page of a report, read back as a tree.
#include "page.hpp"

#include <pugixml.hpp>

#include <gtest/gtest.h>

#include "opifex/core/base/text.hpp"

#include "testkit.hpp"

namespace opifex::report {
namespace {

using testkit::Random;
using testkit::TempFolder;

struct PageOf {
  TempFolder folder;
  ResultTables tables{folder.path()};
  std::vector<std::pair<Figure, std::string>> figures;
  std::vector<std::string> subjects;
  std::string text;
  std::uint64_t results = 0;
  int exit_code = 0;

  void add(const Json& result) {
    tables.add(result);
    ++results;
  }
  std::string html() const {
    return page_html({"check", "1.0", exit_code, 0, subjects, results, tables, figures, 0, text, false});
  }
  /// The page is well-formed XML, too.
  pugi::xml_document tree() const {
    pugi::xml_document document;
    const std::string page = html();
    const auto read = document.load_buffer(page.data(), page.size(), pugi::parse_default | pugi::parse_doctype);
    EXPECT_TRUE(read) << read.description();
    return document;
  }
};

std::size_t count(const pugi::xml_document& page, const char* query) { return page.select_nodes(query).size(); }

constexpr std::array<std::string_view, 12> kHostile = {"<script>alert(1)</script>",
                                                       "\"><img src=x onerror=alert(1)>",
                                                       "]]>",
                                                       "<!-- ",
                                                       "&lt;b&gt;",
                                                       "javascript:alert(1)",
                                                       "\xFF\xFE",
                                                       "\x1B[2J",
                                                       "a\nb",
                                                       "</td>",
                                                       "\xE2\x80\xAE",
                                                       "'; drop table"};

TEST(Page, WhatComesFromOutsideIsTextAndNothingElse) {
  PageOf page;
  for (const std::string_view hostile : kHostile) {
    page.add({{"path", hostile}, {"verdict", hostile}, {"tracks", {{{"number", 1}, {"title", hostile}}}}});
    page.subjects.emplace_back(hostile);
    page.text += std::string(hostile) + "\n";
  }
  const std::string wicked =
      "<svg xmlns='http://www.w3.org/2000/svg'><script>x</script><g onclick='x' id='a'><text>t</text>"
      "<a href='http://elsewhere.example/'><text>u</text></a><image href='http://elsewhere.example/'/>"
      "<use href='http://elsewhere.example/'/><use href='#a'/><rect fill='url(http://elsewhere.example/)'/></g></svg>";
  page.figures.push_back({{.name = "f", .title = std::string(kHostile[0]), .words = std::string(kHostile[1])}, wicked});
  const pugi::xml_document tree = page.tree();
  EXPECT_EQ(count(tree, "//script"), 1u) << "our own";
  EXPECT_EQ(count(tree, "//img | //image | //a | //iframe | //object | //form"), 0u);
  EXPECT_EQ(count(tree, "//*[@onclick or @onerror or @src]"), 0u);
  for (const auto& node : tree.select_nodes("//@href")) {
    const std::string value = node.attribute().value();
    EXPECT_TRUE(value == "data:," || value.starts_with("#")) << value;
  }
  EXPECT_EQ(page.html().find("elsewhere.example"), std::string::npos);
  for (std::size_t i = 0; i < kHostile.size(); ++i) {
    const auto row = tree.select_nodes("//section[1]//tbody/tr")[i].node();
    EXPECT_EQ(std::string(row.first_child().text().get()), printable(kHostile[i]));
  }
}

TEST(Page, ReadersWithoutEyesOrMouseFindTheirWay) {
  PageOf page;
  page.add({{"path", "a"}, {"size_bytes", 5}});
  page.add({{"path", "b"}, {"size_bytes", 6}});
  page.figures.push_back({{.name = "f", .title = "t", .words = "what there is to see"}, "<svg><g/></svg>"});
  const pugi::xml_document tree = page.tree();
  EXPECT_STREQ(tree.child("html").attribute("lang").value(), "en");
  EXPECT_EQ(count(tree, "//h1"), 1u);
  EXPECT_EQ(count(tree, "//table[not(caption)]"), 0u);
  EXPECT_EQ(count(tree, "//th[not(@scope)]"), 0u);
  EXPECT_EQ(count(tree, "//svg[@role='img' and @aria-label='what there is to see']"), 1u);
  EXPECT_EQ(count(tree, "//section[not(h2) and not(details)]"), 0u);
  EXPECT_EQ(count(tree, "//div[@class='scroll' and not(@tabindex)]"), 0u) << "wide tables scroll by keys";
  EXPECT_EQ(count(tree, "//main"), 1u);
}

TEST(Page, NoElementEndsByItselfThatMayNot) {
  PageOf page;
  page.add({{"path", "a"}, {"note", nullptr}, {"size_bytes", 1}});
  page.add({{"path", "b"}, {"note", "x"}});
  const std::string html = page.html();
  for (std::size_t at = html.find("/>"); at != std::string::npos; at = html.find("/>", at + 1)) {
    const std::size_t begin = html.rfind('<', at);
    const std::string name = html.substr(begin + 1, html.find_first_of(" /", begin) - begin - 1);
    EXPECT_TRUE(name == "meta" || name == "link") << name;
  }
  EXPECT_TRUE(html.starts_with("<!DOCTYPE html>"));
}

TEST(Page, TheEndingIsThatOfTheCommand) {
  for (const int code : {0, 1, 3, 4, 5}) {
    PageOf page;
    page.exit_code = code;
    page.add({{"path", "a"}, {"verdict", code == 0 ? "intact" : "damaged"}});
    const pugi::xml_document tree = page.tree();
    const auto box = tree.select_node("//div[@role='status']").node();
    EXPECT_EQ(std::string(box.attribute("class").value()) == "verdict good", code == 0) << code;
    EXPECT_EQ(std::string(box.child("strong").text().get()).find("nothing to complain of") != std::string::npos,
              code == 0);
  }
}

TEST(Page, APlanIsNothingThatWasDone) {
  PageOf page;
  page.add({{"path", "a"}, {"planned_only", true}});
  page.add({{"path", "b"}, {"planned_only", false}});
  const std::string html = page.html();
  EXPECT_EQ(html.find("nothing to complain of"), std::string::npos);
  EXPECT_NE(html.find("nothing was written"), std::string::npos);
}

TEST(Page, VerdictsAreCountedOverAllRowsNotThoseShown) {
  PageOf page;
  for (int i = 0; i < 10'400; ++i)
    page.add({{"path", fmt::format("{}", i)}, {"verdict", i < 10'200 ? "intact" : "damaged"}});
  const pugi::xml_document tree = page.tree();
  std::string list;
  for (const auto& item : tree.select_nodes("//div[@role='status']//li"))
    list += item.node().child("mark").text().get() + std::string(item.node().last_child().value()) + "; ";
  EXPECT_EQ(list, "damaged: 200; intact: 10 200; ");
  EXPECT_EQ(count(tree, "//tbody/tr"), 10'000u);
  EXPECT_NE(std::string(tree.select_node("//caption").node().text().get()).find("10 400 rows; the first 10 000"),
            std::string::npos);
}

TEST(Page, TenThousandRowsStayBelowFiveMegabytes) {
  PageOf page;
  for (int i = 0; i < 10'000; ++i)
    page.add({{"path", fmt::format("/media/discs/some folder/Kestrel Circuit (Disc {}).chd", i)},
              {"format", "chd"},
              {"verdict", "intact"},
              {"known", {{"verdict", "known"}, {"set", "Kestrel Circuit (Europe)"}}},
              {"hashes", {{"crc32", "01234567"}, {"sha1", std::string(40, 'a')}}}});
  EXPECT_LE(page.html().size(), 5'000'000u);
}

TEST(Page, NumbersThatCountAreGroupedAndNumbersThatNameAreNot) {
  PageOf page;
  page.add({{"path", "a"}, {"id", 12'345}, {"size_bytes", 1'234'567}, {"seconds", 0.123456}, {"start_lba", -150}});
  const pugi::xml_document tree = page.tree();
  const auto fact = [&](const char* label) {
    return std::string(tree.select_node(fmt::format("//tr[th='{}']/td", label).c_str()).node().text().get());
  };
  EXPECT_EQ(fact("Number"), "12345");
  EXPECT_EQ(fact("Size (bytes)").substr(0, 9), "1 234 567");
  EXPECT_EQ(fact("Time (seconds)"), "0.123");
  EXPECT_EQ(fact("Start (LBA)"), "-150");
}

}  // namespace
}  // namespace opifex::report
