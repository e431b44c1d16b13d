#include "session/call_choice.h"

#include <algorithm>
#include <set>

#include "abi/inner_calls.h"
#include "abi/system_calls.h"
#include "base/similar_names.h"

namespace deeptrace::session {
namespace {

using abi::CallTable;
using process::CallFilter;

void add(CallFilter::Numbers& to, CallTable table, std::string_view name, bool with_file) {
  const abi::SystemCall* call = abi::system_call(name, table);
  if (call != nullptr) (with_file ? to.with_file : to.listed).insert(call->number);
}

}  // namespace

bool CallChoice::has(std::string_view name) const {
  const bool asked = only.empty() || std::ranges::find(only, name) != only.end();
  return asked && std::ranges::find(except, name) == except.end();
}

std::optional<Error> CallChoice::check() const {
  std::set<std::string> all;
  for (const auto table : {CallTable::x86_64, CallTable::i386}) {
    for (const abi::SystemCall& call : abi::system_calls(table)) all.emplace(call.name);
  }
  for (const auto& names : {only, except}) {
    for (const std::string& name : names) {
      if (!all.contains(name))
        return Error{Fault::usage, name + ": no system call has that name" + similar_words(similar_names(all, name))};
    }
  }
  return std::nullopt;
}

std::optional<CallFilter> CallChoice::filter() const {
  if (all()) return std::nullopt;
  CallFilter filter;
  filter.others = only.empty();
  for (const std::string& name : filter.others ? except : only) {
    if (!filter.others && !has(name)) continue;
    add(filter.x86_64, CallTable::x86_64, name, false);
    add(filter.i386, CallTable::i386, name, false);
    for (const abi::InnerCall& one : abi::inner_calls()) {
      if (!filter.others && one.call == name) add(filter.i386, CallTable::i386, one.outer, false);
    }
  }
  add(filter.x86_64, CallTable::x86_64, "mmap", true);
  add(filter.i386, CallTable::i386, "mmap2", true);
  // The old call has its arguments in memory, where no filter looks.
  if (!filter.others) add(filter.i386, CallTable::i386, "mmap", false);
  return filter;
}

}  // namespace deeptrace::session
