#include "desk/look_file.h"

#include <OpenColorIO/OpenColorIO.h>
#include <fmt/format.h>

#include <cmath>
#include <sstream>

#include "effects/registry.h"
#include "timeline/keys.h"

namespace gc {
namespace {

namespace OCIO = OCIO_NAMESPACE;

/// Every colour of a cube, red fastest, as a picture of one row for each value of blue.
Image colours(int size, double shift = 0) {
  Image image(size * size, size);
  const double step = 1.0 / (size - 1);
  for (int b = 0; b < size; ++b)
    for (int i = 0; i < size * size; ++i) {
      float* to = image.row(b) + 4 * i;
      const double rgb[3] = {(i % size + shift) * step, (i / size + shift) * step, (b + shift) * step};
      for (int c = 0; c < 3; ++c) to[c] = static_cast<float>(std::min(1.0, rgb[c]));
      to[3] = 1;
    }
  return image;
}

FrameContext context(const Image& image, Frames frame) {
  FrameContext at;
  at.frame = frame, at.width = image.width(), at.height = image.height();
  return at;
}

/// The picture pushed on by so much, what leaves it at one side coming in at the other: every colour at another place.
Image pushed(const Image& image, int right, int down) {
  Image out(image.width(), image.height());
  for (int y = 0; y < image.height(); ++y)
    for (int x = 0; x < image.width(); ++x)
      std::copy_n(image.row(y) + 4 * x, 4, out.row((y + down) % image.height()) + 4 * ((x + right) % image.width()));
  return out;
}

double difference(const Image& a, const Image& b) {
  double worst = 0;
  for (int y = 0; y < a.height(); ++y)
    for (int i = 0; i < 4 * a.width(); ++i) worst = std::max(worst, static_cast<double>(std::abs(a.row(y)[i] - b.row(y)[i])));
  return worst;
}

/// Why the effect is not one of colours alone; empty when it is.
std::string why_not(const EffectType& type, const EffectInstance& effect, Frames at) {
  if (effect.reach() > 0 || type.whole) return "it mixes pixels";
  if (effect.window().length() > 1) return "it needs frames around";
  if (type.places) return "it places the picture";
  if (type.moving) return "it differs from frame to frame";
  constexpr int kLook = 9;
  constexpr double kSame = 1e-5;
  Image straight = colours(kLook);
  const int right = straight.width() / 3, down = straight.height() / 3;
  Image other = pushed(straight, right, down);
  effect.apply(straight, context(straight, at));
  effect.apply(other, context(other, at));
  return difference(pushed(straight, right, down), other) > kSame ? "it depends on the place in the picture" : "";
}

/// What the table says of a colour, between its points linearly in each direction.
void look_up(const Image& table, int size, const double rgb[3], double out[3]) {
  int from[3];
  double part[3];
  for (int c = 0; c < 3; ++c) {
    const double v = std::clamp(rgb[c], 0.0, 1.0) * (size - 1);
    from[c] = std::min(size - 2, static_cast<int>(v)), part[c] = v - from[c];
    out[c] = 0;
  }
  for (int corner = 0; corner < 8; ++corner) {
    double weight = 1;
    int at[3];
    for (int c = 0; c < 3; ++c) {
      const int up = corner >> c & 1;
      at[c] = from[c] + up, weight *= up ? part[c] : 1 - part[c];
    }
    for (int c = 0; c < 3; ++c) out[c] += weight * static_cast<double>(table.row(at[2])[4 * (at[1] * size + at[0]) + c]);
  }
}

std::string cube_text(const Image& table, int size, const std::string& name) {
  std::string text = fmt::format("TITLE \"{}\"\nLUT_3D_SIZE {}\nDOMAIN_MIN 0 0 0\nDOMAIN_MAX 1 1 1\n", name, size);
  for (int b = 0; b < size; ++b)
    for (int i = 0; i < size * size; ++i) {
      const float* p = table.row(b) + 4 * i;
      text += fmt::format("{:.6f} {:.6f} {:.6f}\n", p[0], p[1], p[2]);
    }
  return text;
}

std::string clf_text(const Image& table, int size, const std::string& name) {
  auto lut = OCIO::Lut3DTransform::Create(static_cast<unsigned long>(size));
  lut->setFileOutputBitDepth(OCIO::BIT_DEPTH_F32);
  for (int b = 0; b < size; ++b)
    for (int g = 0; g < size; ++g)
      for (int r = 0; r < size; ++r) {
        const float* p = table.row(b) + 4 * (g * size + r);
        lut->setValue(static_cast<unsigned long>(r), static_cast<unsigned long>(g), static_cast<unsigned long>(b), p[0], p[1], p[2]);
      }
  auto group = OCIO::GroupTransform::Create();
  group->getFormatMetadata().setName(name.c_str());
  group->getFormatMetadata().setID(hash_text(name).hex().c_str());
  group->appendTransform(lut);
  std::ostringstream out;
  group->write(OCIO::Config::CreateRaw(), "Academy/ASC Common LUT Format", out);
  return out.str();
}

}  // namespace

Result<LookFile> write_look(const Segment& segment, Frames at, int size, const fs::path& file) {
  if (auto r = must_be_free(file); !r) return std::unexpected(r.error());
  const bool clf = file.extension() == ".clf";
  if (!clf && file.extension() != ".cube") return usage("a look is written as .cube or .clf", "Give a name that ends so.");
  if (size < 2 || size > 129) return usage("a cube has 2 to 129 points on a side", "33 and 65 are usual.");
  LookFile look;
  Image table = colours(size), between = colours(size, 0.5);
  for (const Effect& e : segment.stack) {
    if (!e.enabled) continue;
    const EffectType* type = e.ours ? effect_type(e.type) : nullptr;
    const auto leave = [&](const std::string& why) { look.left_out.push_back(fmt::format("{}: {}", e.id, why)); };
    if (!type || type == &cost_card_effect()) {
      leave("it is of another program");
      continue;
    }
    const auto effect = type->make(params_at(e.params, static_cast<double>(at)), table.width(), table.height());
    if (const std::string why = !effect->trouble().empty() ? effect->trouble() : why_not(*type, *effect, at); !why.empty()) {
      leave(why);
      continue;
    }
    if (any_keys(e.params)) look.left_out.push_back(fmt::format("{}: how it changes in time; it is as at frame {}", e.id, at));
    effect->apply(table, context(table, at));
    effect->apply(between, context(between, at));
    look.taken.push_back(e.id);
  }
  if (look.taken.empty()) return bad_input("nothing in its stack is of colours alone", segment.name, "A grade, a curve or a LUT can be written so.");
  const Image asked = colours(size, 0.5);
  for (int b = 0; b < size; ++b)
    for (int i = 0; i < size * size; ++i) {
      double rgb[3], said[3];
      for (int c = 0; c < 3; ++c) rgb[c] = static_cast<double>(asked.row(b)[4 * i + c]);
      look_up(table, size, rgb, said);
      for (int c = 0; c < 3; ++c) look.worst = std::max(look.worst, std::abs(said[c] - static_cast<double>(between.row(b)[4 * i + c])));
    }
  std::string name = segment.name;
  std::erase(name, '"');
  try {
    const std::string text = clf ? clf_text(table, size, name) : cube_text(table, size, name);
    if (auto r = write_file_atomic(file, text); !r) return std::unexpected(r.error());
  } catch (const OCIO::Exception& e) {
    return bad_input(std::string("the look cannot be written: ") + e.what(), file.string(), "Look at the values of its effects.");
  }
  return look;
}

}  // namespace gc
