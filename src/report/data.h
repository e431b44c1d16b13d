// Renderers of `data`: docs/formats/data.md for the machine-readable ones.
#pragma once

#include <memory>

#include "report/output.h"
#include "study/data.h"

namespace deeptrace::report {

std::unique_ptr<study::DataSink> data_text(Output& out, Style style);
std::unique_ptr<study::DataSink> data_json(Output& out);
std::unique_ptr<study::DataSink> data_csv(Output& out);

}  // namespace deeptrace::report
