// The figures that --save writes.
#pragma once

#include <span>
#include <string>

#include "program/flow_graph.h"
#include "program/source_text.h"
#include "report/canvas.h"
#include "study/survey.h"

namespace deeptrace::report {

/// Where a file's bytes went: a map of the file from first to last byte, and a bar for each use.
bool survey_figure(const std::string& path, Canvas::Form form, std::span<const study::Survey> files);

/// A function's control flow, the source lines in the blocks and loops marked. `file` is the source path of its lines.
bool flow_figure(const std::string& path, Canvas::Form form, const program::FlowGraph& graph, const std::string& file,
                 program::SourceText& sources);

}  // namespace deeptrace::report
