// Titles: text shaped by Pango with the shipped fonts, painted by Cairo. A title does not change in time, so
// it is made once and copied.
#include <fmt/format.h>
#include <pango/pangocairo.h>

#include <cstring>
#include <mutex>

#include "effects/registry.h"

namespace gc {
namespace {

class Layout {
 public:
  Layout(cairo_t* cairo, const std::string& text, double size_px)
      : layout_(pango_cairo_create_layout(cairo)) {
    PangoFontDescription* font = pango_font_description_from_string("Inter Semi-Bold");
    pango_font_description_set_absolute_size(font, size_px * PANGO_SCALE);
    pango_layout_set_font_description(layout_, font);
    pango_font_description_free(font);
    pango_layout_set_text(layout_, text.data(), static_cast<int>(text.size()));
  }
  ~Layout() { g_object_unref(layout_); }
  Layout(const Layout&) = delete;
  Layout& operator=(const Layout&) = delete;
  PangoLayout* get() const { return layout_; }

 private:
  PangoLayout* layout_;
};

/// A Cairo surface with its context.
class Sheet {
 public:
  Sheet(int width, int height)
      : surface_(cairo_image_surface_create(CAIRO_FORMAT_ARGB32, width, height)),
        cairo_(cairo_create(surface_)) {}
  ~Sheet() {
    cairo_destroy(cairo_);
    cairo_surface_destroy(surface_);
  }
  Sheet(const Sheet&) = delete;
  Sheet& operator=(const Sheet&) = delete;
  cairo_t* cairo() const { return cairo_; }
  cairo_surface_t* surface() const { return surface_; }

 private:
  cairo_surface_t* surface_;
  cairo_t* cairo_;
};

class Title : public EffectInstance {
 public:
  Title(const EffectType& type, const Json& p, int, int)
      : text_(text_or(p, "text", "")),
        size_(param(type, p, "size")),
        x_(param(type, p, "x")),
        y_(param(type, p, "y")) {
    const Sheet sheet(8, 8);
    const Layout layout(sheet.cairo(), text_, 40);
    missing_ = pango_layout_get_unknown_glyphs_count(layout.get());
  }
  std::string trouble() const override {
    if (missing_ == 0) return {};
    return fmt::format(
        "The fonts lack {} of the characters of the title '{}'; boxes stand in their place. Use other "
        "characters or install a font that has them.",
        missing_, text_);
  }
  void apply(Image& image, const FrameContext&) const override {
    const std::lock_guard lock(mutex_);
    if (picture_.width() != image.width() || picture_.height() != image.height())
      picture_ = paint(image.width(), image.height());
    std::memcpy(image.data(), picture_.data(), picture_.floats() * sizeof(float));
    image.opaque = false;
  }

 private:
  Image paint(int width, int height) const {
    const Sheet sheet(width, height);
    cairo_t* cairo = sheet.cairo();
    const Layout layout(cairo, text_, size_ * height);
    int w = 0, h = 0;
    pango_layout_get_pixel_size(layout.get(), &w, &h);
    const double left = x_ * width - w / 2.0, top = y_ * height - h / 2.0;
    // A soft edge keeps light text readable on light pictures.
    cairo_set_source_rgba(cairo, 0, 0, 0, 0.55);
    cairo_move_to(cairo, left + size_ * height * 0.04, top + size_ * height * 0.04);
    pango_cairo_show_layout(cairo, layout.get());
    cairo_set_source_rgba(cairo, 0.92, 0.91, 0.88, 1);
    cairo_move_to(cairo, left, top);
    pango_cairo_show_layout(cairo, layout.get());
    cairo_surface_flush(sheet.surface());

    Image image(width, height);
    image.opaque = false;
    const unsigned char* data = cairo_image_surface_get_data(sheet.surface());
    const int stride = cairo_image_surface_get_stride(sheet.surface());
    for (int y = 0; y < height; ++y) {
      const unsigned char* in = data + static_cast<std::ptrdiff_t>(y) * stride;
      float* out = image.row(y);
      for (int x = 0; x < width; ++x, in += 4, out += 4) {  // native order B, G, R, A, premultiplied
        out[0] = static_cast<float>(in[2]) / 255.0f, out[1] = static_cast<float>(in[1]) / 255.0f;
        out[2] = static_cast<float>(in[0]) / 255.0f, out[3] = static_cast<float>(in[3]) / 255.0f;
      }
    }
    return image;
  }

  std::string text_;
  double size_, x_, y_;
  int missing_ = 0;
  mutable std::mutex mutex_;
  mutable Image picture_;
};

}  // namespace

const EffectType& title_generator() {
  static const EffectType type = [] {
    EffectType t{"title",
                 "Title",
                 StageKind::composition,
                 {{"text", "Text", "", 0, 0, 0, 1, false, true},
                  {"size", "Size", "of height", 0.01, 1, 0.08},
                  {"x", "Centre, across", "of width", -4, 5, 0.5},
                  {"y", "Centre, down", "of height", -4, 5, 0.85}},
                 true,
                 make_instance<Title, title_generator>};
    t.whole = true;
    t.processor_only = "text is painted by Cairo";
    t.family = "generator";
    return t;
  }();
  return type;
}

}  // namespace gc
