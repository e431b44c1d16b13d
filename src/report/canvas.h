// Figures: a drawing surface that becomes an SVG or a PNG file (Cairo, with Pango for text).
#pragma once

#include <string>
#include <string_view>

namespace deeptrace::report {

struct Colour {
  double red = 0, green = 0, blue = 0, alpha = 1;  ///< 0 to 1
};

/// The product's colours on paper.
namespace colours {
inline constexpr Colour kPaper{0.984, 0.980, 0.969, 1}, kInk{0.114, 0.141, 0.188, 1}, kFaint{0.365, 0.408, 0.471, 1},
    kLine{0.80, 0.78, 0.74, 1}, kTeal{0.039, 0.490, 0.455, 1}, kAmber{0.72, 0.45, 0.03, 1},
    kMagenta{0.64, 0.08, 0.44, 1};
}  // namespace colours

class Canvas {
 public:
  enum class Form { svg, png };
  /// Sizes are in pixels. The file is written when the canvas is finished.
  Canvas(const std::string& path, Form form, double width, double height);
  ~Canvas();
  Canvas(const Canvas&) = delete;
  Canvas& operator=(const Canvas&) = delete;

  void box(double x, double y, double width, double height, Colour fill, Colour line, double line_width = 1);
  void line(double x1, double y1, double x2, double y2, Colour colour, double width = 1);
  /// A smooth line through Bezier points: the first, then three for each piece.
  void curve(const double* points, std::size_t pieces, Colour colour, double width, bool dashed);
  void arrow_head(double x, double y, double from_x, double from_y, Colour colour, double size);
  /// `size` is the height of the font; the text is cut with an ellipsis at `room` (0: not at all). Returns its width.
  double text(double x, double y, std::string_view text, double size, Colour colour, bool bold = false,
              double room = 0);
  [[nodiscard]] double width_of(std::string_view text, double size, bool bold = false);
  void scale(double factor, double move_x, double move_y);
  /// False when the file could not be written.
  bool finish();

 private:
  struct Handles;
  Handles* handles_;
};

}  // namespace deeptrace::report
