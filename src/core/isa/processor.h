// What the processor that this program runs on has, and which rows of the table it can be asked about.
//
// Source: Intel SDM volume 2, CPUID; AMD64 manual volume 3, appendix E. tests/processor_test.cpp runs what is provable.
#pragma once

#include <string_view>

#include "isa/table.h"

namespace deeptrace::isa {

/// True when this processor has a feature of the table (see feature_of), and the system saves its registers.
bool processor_has(std::string_view feature);

/// Why this processor cannot be asked what the row does; empty where it can.
std::string_view why_not_provable(const Row& row);

}  // namespace deeptrace::isa
