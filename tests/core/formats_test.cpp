// docs/formats.md is what scripts are written by: every document has the keys it names, and no others.
#include "commands.h"

namespace gc {
namespace {

/// Keys of a document as the text names them: "a, b[] {c, d (where known)}".
struct Shape {
  std::map<std::string, Shape> keys;
  bool always = true;
};

class Notation {
 public:
  explicit Notation(const std::string& text) : text_(text) {}
  Shape parse() {
    Shape s;
    while (at_ < text_.size() && text_[at_] != '}') {
      const std::string name = word();
      if (name.empty()) {
        ++at_;
        continue;
      }
      while (at_ < text_.size() && (text_[at_] == '[' || text_[at_] == ']')) ++at_;
      while (at_ < text_.size() && text_[at_] == ' ') ++at_;
      Shape inner;
      if (at_ < text_.size() && text_[at_] == '{') {
        ++at_;
        inner = parse();
        ++at_;
      }
      const std::size_t from = at_;
      while (at_ < text_.size() && text_[at_] != ',' && text_[at_] != '}')
        at_ += text_[at_] == '(' ? aside() : 1;
      inner.always = text_.substr(from, at_ - from).find("where") == std::string::npos;
      s.keys[name] = inner;
    }
    return s;
  }

 private:
  std::string word() {
    std::string w;
    while (at_ < text_.size() && (std::isalnum(static_cast<unsigned char>(text_[at_])) || text_[at_] == '_'))
      w += text_[at_++];
    return w;
  }
  std::size_t aside() const {
    const std::size_t end = text_.find(')', at_);
    return (end == std::string::npos ? text_.size() - 1 : end) - at_ + 1;
  }

  std::string text_;
  std::size_t at_ = 0;
};

/// What the text says of each document, by its name.
const std::map<std::string, Shape>& documented() {
  static const std::map<std::string, Shape> all = [] {
    std::map<std::string, Shape> shapes;
    std::ifstream file(fs::path(GCLK_SOURCE).parent_path() / "docs" / "formats.md");
    bool documents = false;
    for (std::string line; std::getline(file, line);) {
      if (line.starts_with("## ")) documents = line == "## Documents";
      if (!documents) continue;
      for (std::size_t at = line.find("**"); at != std::string::npos; at = line.find("**", at)) {
        const std::size_t end = line.find("**", at + 2);
        const std::string name = line.substr(at + 2, end - at - 2);
        const std::size_t open = line.find('`', end), close = line.find('`', open + 1);
        if (open == std::string::npos || close == std::string::npos) break;
        shapes[name] = Notation(line.substr(open + 1, close - open - 1)).parse();
        // "as forecast, with": all of those as well.
        if (line.substr(end, open - end).find("as forecast") != std::string::npos)
          shapes[name].keys.insert(shapes["forecast"].keys.begin(), shapes["forecast"].keys.end());
        at = close;
      }
    }
    return shapes;
  }();
  return all;
}

void expect_shape(const Json& json, const Shape& shape, const std::string& where) {
  if (json.is_array()) {
    for (const Json& element : json) expect_shape(element, shape, where);
    return;
  }
  if (!json.is_object() || shape.keys.empty()) return;
  for (const auto& [key, inner] : shape.keys) {
    if (!json.contains(key)) {
      EXPECT_FALSE(inner.always) << where << " lacks '" << key << "'";
      continue;
    }
    expect_shape(json[key], inner, where + "." + key);
  }
  for (const auto& [key, value] : json.items())
    EXPECT_TRUE(shape.keys.contains(key)) << where << " has '" << key << "', which the text does not name";
}

class Documents : public test::Commands {
 protected:
  void agrees(const std::string& name, const std::string& arguments) {
    SCOPED_TRACE("gclk " + arguments);
    ASSERT_TRUE(documented().contains(name)) << name << " is not in the text";
    const Json j = gclk(arguments + " --json").json();
    ASSERT_TRUE(j.is_structured()) << "no document";
    expect_shape(j, documented().at(name), name);
  }
  const std::string file_ = small();
};

TEST_F(Documents, OfATimelineAreAsTheTextSays) {
  agrees("inspect", "inspect " + file_);
  agrees("measure", "measure " + file_ + " --seconds 2");
  agrees("forecast", "forecast " + file_);
  agrees("plan", "plan " + file_);
  agrees("run", "run " + file_ + " --range 0-12");
  agrees("playout", "playout " + file_ + " --record '" + (dir_ / "record.json").string() + "'");
  agrees("replay", "replay '" + (dir_ / "record.json").string() + "'");
  agrees("audit", "audit " + file_ + " --range 0-24");
  agrees("audit --repeat", "audit " + file_ + " --range 0-24 --repeat 2");
  agrees("what-if", "what-if " + file_ + " --bypass a/b");
  agrees("coverage", "coverage " + file_);
  agrees("compare", "compare " + file_ + " 5 --scale 4");
  agrees("gate", "gate " + file_);
  agrees("cache", "cache " + file_ + " a --after b");
  agrees("shelf", "shelf --verify --rebuild");
  agrees("remedies", "remedies " + file_ + " --limit 6");
  agrees("apply", "apply " + file_ + " scale:2");
  agrees("slips", "slips " + file_);
  agrees("lift", "lift " + file_ + " --all");
  agrees("truth", "truth " + file_ + " timing a");
  agrees("angles", "angles " + file_);
}

TEST_F(Documents, OfEditsAreAsTheTextSays) {
  agrees("bypass", "bypass " + file_ + " a b");
  agrees("set", "set " + file_ + " a g saturation 1.3");
  agrees("add", "add " + file_ + " c glow");
  agrees("device", "device " + file_ + " c c-glow accelerator");
  agrees("key", "key " + file_ + " c c-glow amount 0 0.5");
  agrees("move", "move " + file_ + " a g 0");
  agrees("remove", "remove " + file_ + " a b");
}

TEST_F(Documents, OfTheSeatAreAsTheTextSays) {
  agrees("seat", "seat");
  const std::string mine = "'" + (dir_ / "mine.json").string() + "'";
  gclk("seat --save " + mine);
  agrees("seat compare", "seat compare " + mine + " 'Thin laptop'");
  agrees("advise", "advise " + file_);
  agrees("forecast --seat", "forecast " + file_ + " --seat 'Render node'");
  agrees("effects", "effects");
}

TEST_F(Documents, WhatFailsSaysSoInTheDocument) {
  for (const char* arguments :
       {"inspect /no/such.otio", "seat compare /no/such.json this", "replay /no/such.json"}) {
    const Json j = gclk(std::string(arguments) + " --json").json();
    ASSERT_TRUE(j.is_object() && j.contains("error")) << arguments;
    EXPECT_FALSE(j["error"].empty()) << arguments;
  }
}

}  // namespace
}  // namespace gc
