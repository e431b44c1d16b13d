#include "report/canvas.h"

#include <cairo-svg.h>
#include <cairo.h>
#include <pango/pangocairo.h>

#include <cmath>

namespace deeptrace::report {

struct Canvas::Handles {
  cairo_surface_t* surface = nullptr;
  cairo_t* cairo = nullptr;
  std::string path;
  Form form = Form::svg;
  bool finished = false;
};

namespace {

void use(cairo_t* cairo, Colour colour) {
  cairo_set_source_rgba(cairo, colour.red, colour.green, colour.blue, colour.alpha);
}

/// Pango refuses text that is not UTF-8; callers pass printable text.
PangoLayout* layout_of(cairo_t* cairo, std::string_view text, double size, bool bold, double room) {
  PangoLayout* layout = pango_cairo_create_layout(cairo);
  // Text takes the same room at every scale.
  cairo_font_options_t* options = cairo_font_options_create();
  cairo_font_options_set_hint_metrics(options, CAIRO_HINT_METRICS_OFF);
  cairo_font_options_set_hint_style(options, CAIRO_HINT_STYLE_NONE);
  pango_cairo_context_set_font_options(pango_layout_get_context(layout), options);
  pango_layout_context_changed(layout);
  cairo_font_options_destroy(options);
  PangoFontDescription* font = pango_font_description_from_string(bold ? "DejaVu Sans Mono Bold" : "DejaVu Sans Mono");
  pango_font_description_set_absolute_size(font, size * PANGO_SCALE);
  pango_layout_set_font_description(layout, font);
  pango_font_description_free(font);
  pango_layout_set_text(layout, text.data(), static_cast<int>(text.size()));
  if (room > 0) {
    pango_layout_set_width(layout, static_cast<int>(room * PANGO_SCALE));
    pango_layout_set_ellipsize(layout, PANGO_ELLIPSIZE_END);
  }
  return layout;
}

}  // namespace

Canvas::Canvas(const std::string& path, Form form, double width, double height) : handles_(new Handles) {
  handles_->path = path;
  handles_->form = form;
  handles_->surface = form == Form::svg
                          ? cairo_svg_surface_create(path.c_str(), width, height)
                          : cairo_image_surface_create(CAIRO_FORMAT_ARGB32, static_cast<int>(std::ceil(width)),
                                                       static_cast<int>(std::ceil(height)));
  handles_->cairo = cairo_create(handles_->surface);
  box(0, 0, width, height, colours::kPaper, colours::kPaper);
}

Canvas::~Canvas() {
  finish();
  delete handles_;
}

bool Canvas::finish() {
  if (handles_->finished) return true;
  handles_->finished = true;
  cairo_destroy(handles_->cairo);
  cairo_status_t status = cairo_surface_status(handles_->surface);
  if (handles_->form == Form::png && status == CAIRO_STATUS_SUCCESS)
    status = cairo_surface_write_to_png(handles_->surface, handles_->path.c_str());
  cairo_surface_finish(handles_->surface);
  if (status == CAIRO_STATUS_SUCCESS) status = cairo_surface_status(handles_->surface);
  cairo_surface_destroy(handles_->surface);
  return status == CAIRO_STATUS_SUCCESS || status == CAIRO_STATUS_SURFACE_FINISHED;
}

void Canvas::box(double x, double y, double width, double height, Colour fill, Colour line, double line_width) {
  cairo_rectangle(handles_->cairo, x, y, width, height);
  use(handles_->cairo, fill);
  cairo_fill_preserve(handles_->cairo);
  use(handles_->cairo, line);
  cairo_set_line_width(handles_->cairo, line_width);
  cairo_stroke(handles_->cairo);
}

void Canvas::line(double x1, double y1, double x2, double y2, Colour colour, double width) {
  cairo_move_to(handles_->cairo, x1, y1);
  cairo_line_to(handles_->cairo, x2, y2);
  use(handles_->cairo, colour);
  cairo_set_line_width(handles_->cairo, width);
  cairo_stroke(handles_->cairo);
}

void Canvas::curve(const double* p, std::size_t pieces, Colour colour, double width, bool dashed) {
  cairo_move_to(handles_->cairo, p[0], p[1]);
  for (std::size_t i = 0; i < pieces; ++i, p += 6) cairo_curve_to(handles_->cairo, p[2], p[3], p[4], p[5], p[6], p[7]);
  use(handles_->cairo, colour);
  cairo_set_line_width(handles_->cairo, width);
  const double dash[] = {5, 4};
  if (dashed) cairo_set_dash(handles_->cairo, dash, 2, 0);
  cairo_stroke(handles_->cairo);
  cairo_set_dash(handles_->cairo, nullptr, 0, 0);
}

void Canvas::arrow_head(double x, double y, double from_x, double from_y, Colour colour, double size) {
  const double angle = std::atan2(y - from_y, x - from_x);
  cairo_move_to(handles_->cairo, x, y);
  for (const double turn : {2.7, -2.7})
    cairo_line_to(handles_->cairo, x + size * std::cos(angle + turn), y + size * std::sin(angle + turn));
  cairo_close_path(handles_->cairo);
  use(handles_->cairo, colour);
  cairo_fill(handles_->cairo);
}

double Canvas::text(double x, double y, std::string_view text, double size, Colour colour, bool bold, double room) {
  PangoLayout* layout = layout_of(handles_->cairo, text, size, bold, room);
  use(handles_->cairo, colour);
  cairo_move_to(handles_->cairo, x, y);
  pango_cairo_show_layout(handles_->cairo, layout);
  int width = 0;
  pango_layout_get_pixel_size(layout, &width, nullptr);
  g_object_unref(layout);
  return width;
}

double Canvas::width_of(std::string_view text, double size, bool bold) {
  PangoLayout* layout = layout_of(handles_->cairo, text, size, bold, 0);
  int width = 0;
  pango_layout_get_pixel_size(layout, &width, nullptr);
  g_object_unref(layout);
  return width;
}

void Canvas::scale(double factor, double move_x, double move_y) {
  cairo_translate(handles_->cairo, move_x, move_y);
  cairo_scale(handles_->cairo, factor, factor);
}

}  // namespace deeptrace::report
