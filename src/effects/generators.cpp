// Generators: titles (text shaped by Pango, painted by Cairo) and solid colours. A generator's picture does
// not change in time, so it is made once and copied.
#include <pango/pangocairo.h>

#include <cstring>
#include <mutex>

#include "effects/registry.h"

namespace gc {
namespace {

class Still : public EffectInstance {
 public:
  void apply(Image& image) const override {
    const std::lock_guard lock(mutex_);
    if (picture_.empty()) picture_ = paint(image.width(), image.height());
    std::memcpy(image.data(), picture_.data(), picture_.floats() * sizeof(float));
    image.opaque = picture_.opaque;
  }

 protected:
  virtual Image paint(int width, int height) const = 0;

 private:
  mutable std::mutex mutex_;
  mutable Image picture_;
};

class Title : public Still {
 public:
  Title(std::string text, double size, double x, double y)
      : text_(std::move(text)), size_(size), x_(x), y_(y) {}

 protected:
  Image paint(int width, int height) const override {
    cairo_surface_t* surface = cairo_image_surface_create(CAIRO_FORMAT_ARGB32, width, height);
    cairo_t* cairo = cairo_create(surface);
    PangoLayout* layout = pango_cairo_create_layout(cairo);
    PangoFontDescription* font = pango_font_description_from_string("Inter Semi-Bold");
    pango_font_description_set_absolute_size(font, size_ * height * PANGO_SCALE);
    pango_layout_set_font_description(layout, font);
    pango_layout_set_text(layout, text_.data(), static_cast<int>(text_.size()));
    int w = 0, h = 0;
    pango_layout_get_pixel_size(layout, &w, &h);
    const double left = x_ * width - w / 2.0, top = y_ * height - h / 2.0;
    // A soft edge keeps light text readable on light pictures.
    cairo_set_source_rgba(cairo, 0, 0, 0, 0.55);
    cairo_move_to(cairo, left + size_ * height * 0.04, top + size_ * height * 0.04);
    pango_cairo_show_layout(cairo, layout);
    cairo_set_source_rgba(cairo, 0.92, 0.91, 0.88, 1);
    cairo_move_to(cairo, left, top);
    pango_cairo_show_layout(cairo, layout);
    cairo_surface_flush(surface);

    Image image(width, height);
    image.opaque = false;
    const unsigned char* data = cairo_image_surface_get_data(surface);
    const int stride = cairo_image_surface_get_stride(surface);
    for (int y = 0; y < height; ++y) {
      const unsigned char* in = data + static_cast<std::ptrdiff_t>(y) * stride;
      float* out = image.row(y);
      for (int x = 0; x < width; ++x, in += 4, out += 4) {  // native order B, G, R, A, premultiplied
        out[0] = static_cast<float>(in[2]) / 255.0f, out[1] = static_cast<float>(in[1]) / 255.0f;
        out[2] = static_cast<float>(in[0]) / 255.0f, out[3] = static_cast<float>(in[3]) / 255.0f;
      }
    }
    pango_font_description_free(font);
    g_object_unref(layout);
    cairo_destroy(cairo);
    cairo_surface_destroy(surface);
    return image;
  }

 private:
  std::string text_;
  double size_, x_, y_;
};

class Solid : public Still {
 public:
  Solid(float r, float g, float b) : r_(r), g_(g), b_(b) {}

 protected:
  Image paint(int width, int height) const override { return Image::filled(width, height, r_, g_, b_, 1); }

 private:
  float r_, g_, b_;
};

}  // namespace

const EffectType& title_generator() {
  static const EffectType type{"title",
                               "Title",
                               StageKind::composition,
                               {{"text", "Text", "", 0, 0, 0, 1, false, true},
                                {"size", "Size", "of height", 0.01, 1, 0.08},
                                {"x", "Centre, across", "of width", -4, 5, 0.5},
                                {"y", "Centre, down", "of height", -4, 5, 0.85}},
                               true,
                               [](const Json& p, int, int) -> std::unique_ptr<EffectInstance> {
                                 const EffectType& t = title_generator();
                                 return std::make_unique<Title>(text_or(p, "text", ""), param(t, p, "size"),
                                                                param(t, p, "x"), param(t, p, "y"));
                               }};
  return type;
}

const EffectType& solid_generator() {
  static const EffectType type{"solid",
                               "Solid colour",
                               StageKind::composition,
                               {{"colour", "Colour", "", 0, 1, 0.18, 3}},
                               false,
                               [](const Json& p, int, int) -> std::unique_ptr<EffectInstance> {
                                 const auto c = [&](std::size_t i) {
                                   return static_cast<float>(param(solid_generator(), p, "colour", i));
                                 };
                                 return std::make_unique<Solid>(c(0), c(1), c(2));
                               }};
  return type;
}

}  // namespace gc
