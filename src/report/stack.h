// How the words of a stack look.
#pragma once

#include <string>
#include <vector>

#include "look/stack_words.h"
#include "report/output.h"

namespace deeptrace::report {

/// A line a word, with a heading where another frame begins. `bytes` of a word.
std::vector<std::string> stack_lines(const Style& style, const std::vector<look::StackWord>& words, unsigned bytes);

/// "return address", "kept register", "variable", "argument", "outgoing argument", "protector", "unknown".
std::string_view kind_name(look::StackWord::Kind kind);

}  // namespace deeptrace::report
