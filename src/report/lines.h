// Renderers of `lines`: docs/formats/lines.md for the machine-readable ones.
#pragma once

#include <memory>
#include <span>

#include "program/source_text.h"
#include "report/output.h"
#include "study/lines.h"

namespace deeptrace::report {

std::unique_ptr<study::LinesSink> lines_text(Output& out, Style style, program::SourceText& sources);
std::unique_ptr<study::LinesSink> lines_json(Output& out);
std::unique_ptr<study::LinesSink> lines_csv(Output& out);

/// Where addresses came from.
void origins_text(Output& out, const Style& style, const program::Program& program,
                  std::span<const study::AddressOrigin> origins, program::SourceText& sources);
void origins_json(Output& out, const program::Program& program, std::span<const study::AddressOrigin> origins);
void origins_csv(Output& out, std::span<const study::AddressOrigin> origins);

}  // namespace deeptrace::report
