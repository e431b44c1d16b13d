#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "report/figures.h"
#include "report/output.h"

namespace deeptrace::report {
namespace {

using study::ByteUse;
using study::Survey;

/// One hue a use; order and meaning as in study::ByteUse.
constexpr Colour kUses[study::kByteUses] = {
    {0.04, 0.49, 0.46, 1}, {0.35, 0.66, 0.52, 1}, {0.75, 0.62, 0.18, 1}, {0.36, 0.47, 0.72, 1},
    {0.55, 0.42, 0.70, 1}, {0.72, 0.45, 0.40, 1}, {0.55, 0.60, 0.68, 1}, {0.66, 0.52, 0.58, 1},
    {0.45, 0.45, 0.45, 1}, {0.30, 0.33, 0.40, 1}, {0.86, 0.84, 0.80, 1},
};

std::string grouped(std::uint64_t value) {
  std::string digits = std::to_string(value);
  for (std::size_t at = digits.size(); at > 3; at -= 3) digits.insert(at - 3, ",");
  return digits;
}

constexpr double kWidth = 1280, kHeight = 800, kMargin = 40;

/// The file from its first byte to its last; each section in the colour of its use.
void map(Canvas& canvas, const Survey& survey, double y, double height) {
  const double total = static_cast<double>(std::max<std::uint64_t>(survey.program->elf().file_size(), 1));
  const double room = kWidth - 2 * kMargin;
  const auto place = [&](std::uint64_t offset) { return kMargin + room * static_cast<double>(offset) / total; };
  canvas.box(kMargin, y, room, height, kUses[static_cast<std::size_t>(ByteUse::padding)], colours::kLine);
  for (const auto& range : survey.program->elf().headers())
    canvas.box(place(range.offset), y, std::max(1.0, place(range.offset + range.size) - place(range.offset)), height,
               kUses[static_cast<std::size_t>(ByteUse::headers)], colours::kPaper, 0.5);
  std::size_t number = 0;
  double labelled = 0;
  for (const binary::Section& section : survey.program->elf().sections()) {
    if (section.index == 0 || section.type == 0) continue;
    if (number >= survey.sections.size()) break;
    const study::SurveyedSection& drawn = survey.sections[number++];
    if (drawn.in_file == 0) continue;
    const double from = place(section.offset), to = place(section.offset + drawn.in_file);
    canvas.box(from, y, std::max(0.5, to - from), height, kUses[static_cast<std::size_t>(drawn.use)], colours::kPaper,
               0.5);
    const double width = canvas.width_of(drawn.name, 11);
    if (to - from > width + 8) canvas.text(from + 4, y + height / 2 - 7, drawn.name, 11, {1, 1, 1, 1});
    // Narrow ones get their name above, as far as there is room.
    if (to - from <= width + 8 && to - from > 3 && from > labelled) {
      canvas.text(from, y - 15, drawn.name, 10, colours::kFaint);
      labelled = from + canvas.width_of(drawn.name, 10) + 6;
    }
  }
}

void bars(Canvas& canvas, const Survey& survey, double x, double y, double width, double row) {
  const double total = static_cast<double>(std::max<std::uint64_t>(survey.program->elf().file_size(), 1));
  const double start = x + 330;
  for (std::size_t use = 0; use < study::kByteUses; ++use) {
    if (survey.bytes[use] == 0) continue;
    const double share = static_cast<double>(survey.bytes[use]) / total;
    canvas.box(x, y + 3, 12, 12, kUses[use], kUses[use]);
    canvas.text(x + 20, y, study::name_of(static_cast<ByteUse>(use)), 13, colours::kInk);
    const std::string number = grouped(survey.bytes[use]);
    canvas.text(x + 240 - canvas.width_of(number, 13), y, number, 13, colours::kInk);
    canvas.text(x + 255, y, fmt::format("{:>5.1f}%", 100 * share), 13, colours::kFaint);
    canvas.box(start, y + 2, std::max(1.0, share * (width - 330)), 14, kUses[use], kUses[use]);
    y += row;
  }
}

void largest(Canvas& canvas, std::string_view title, std::span<const study::SurveyedFunction> list, double x, double y,
             double width) {
  if (list.empty()) return;
  canvas.text(x, y, title, 13, colours::kInk, true);
  const double most = static_cast<double>(std::max<std::uint64_t>(list.front().size, 1));
  for (const study::SurveyedFunction& function : list) {
    y += 22;
    const double share = static_cast<double>(function.size) / most;
    canvas.box(x, y + 2, std::max(1.0, share * 120), 14, kUses[0], kUses[0]);
    const std::string number = grouped(function.size);
    canvas.text(x + 200 - canvas.width_of(number, 12), y, number, 12, colours::kInk);
    canvas.text(x + 212, y, printable(function.name), 12, colours::kInk, false, width - 212);
  }
}

}  // namespace

bool survey_figure(const std::string& path, Canvas::Form form, std::span<const Survey> files) {
  Canvas canvas(path, form, kWidth, kHeight);
  if (files.size() == 1) {
    const Survey& survey = files[0];
    const std::string name = std::filesystem::path(survey.program->elf().path()).filename().string();
    canvas.text(kMargin, 26, printable(name), 20, colours::kInk, true);
    canvas.text(kMargin, 54,
                fmt::format("{} bytes, from the first to the last", grouped(survey.program->elf().file_size())), 13,
                colours::kFaint);
    map(canvas, survey, 104, 64);
    canvas.text(kMargin, 210, "where the bytes went", 13, colours::kInk, true);
    bars(canvas, survey, kMargin, 236, 690, 24);
    largest(canvas, "largest functions", survey.largest, 780, 210, kWidth - kMargin - 780);
    largest(canvas, "largest compile units, by bytes of code", survey.largest_units, kMargin, 530, kWidth / 2);
    return canvas.finish();
  }
  // Several files: a map each, on a scale of their own.
  const double each = std::min(150.0, (kHeight - 60) / static_cast<double>(files.size()));
  double y = 24;
  for (const Survey& survey : files) {
    if (y + 60 > kHeight) break;
    canvas.text(kMargin, y,
                fmt::format("{}   {} bytes", printable(survey.program->elf().path()),
                            grouped(survey.program->elf().file_size())),
                13, colours::kInk, true);
    map(canvas, survey, y + 40, std::max(16.0, each - 76));
    y += each;
  }
  double x = kMargin;
  for (std::size_t use = 0; use < study::kByteUses; ++use) {
    canvas.box(x, kHeight - 24, 11, 11, kUses[use], kUses[use]);
    x += 15 + canvas.text(x + 15, kHeight - 27, study::name_of(static_cast<ByteUse>(use)), 11, colours::kInk) + 12;
  }
  return canvas.finish();
}

}  // namespace deeptrace::report
