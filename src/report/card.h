// The card at a stop, as lines of text.
#pragma once

#include <string>
#include <vector>

#include "look/card.h"
#include "program/source_text.h"
#include "report/output.h"

namespace deeptrace::report {

/// Everything about a stop: why, where, the code around, what changed, what is followed, what comes next.
std::vector<std::string> card_lines(const Style& style, const look::Card& card, program::SourceText& sources,
                                    const std::vector<look::Followed>& followed);

/// The pieces of it, for other views.
std::vector<std::string> why_lines(const Style& style, const look::Card& card);
/// Whether a card says that what functions wrote was not followed.
bool says_limits(const look::Card& card);
std::vector<std::string> code_lines(const Style& style, const std::vector<look::CodeLine>& code);
std::vector<std::string> change_lines(const Style& style, const state::Delta& delta, const look::Card& card);
/// What a system call that was just made was asked for, and what came of it.
std::vector<std::string> call_lines(const Style& style, const look::KernelCall& call);
std::vector<std::string> foresight_lines(const Style& style, const look::Foresight& next);

}  // namespace deeptrace::report
