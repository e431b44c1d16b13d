// The page that a tour's folder begins with: what was done, in the order of the work, with the files that came of it.
#pragma once

#include <string>
#include <vector>

#include "report/output.h"

namespace deeptrace::report {

struct TourStation {
  std::string task;                ///< "Look at it": a heading where it is another than before
  std::string shows, words;        ///< what it shows; the command as it is typed
  std::string folder;              ///< of its files, below the page's
  std::vector<std::string> files;  ///< names in that folder
};

void tour_page(Output& out, const std::vector<TourStation>& stations);

}  // namespace deeptrace::report
