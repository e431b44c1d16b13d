#include "look/rows.h"

#include <algorithm>

#include "base/number.h"
#include "isa/text.h"
#include "look/tail_call.h"

namespace deeptrace::look {
namespace {

using state::Reg;

/// The parameters of a frame, of the inlined call that it is or of the function itself.
std::vector<Argument> parameters(Modules& modules, const state::StateView& view, const inspect::Frame& frame,
                                 unsigned depth) {
  std::vector<Argument> result;
  Scope scope(modules, view, frame);
  scope.at_depth(depth);
  for (Scope::Listed& listed : scope.locals()) {
    if (!listed.parameter || listed.depth != depth) continue;
    Argument argument;
    argument.name = listed.name;
    if (listed.datum) {
      const inspect::Datum& datum = *listed.datum;
      if (datum.type) argument.type = datum.type.types->name(datum.type.id);
      if (datum.place == inspect::Datum::Place::reg) argument.where = isa::name_of(datum.part);
      if (datum.place == inspect::Datum::Place::memory) argument.where = "[" + hex_text(datum.address) + "]";
      listed.datum = inspect::referred(std::move(*listed.datum), scope);
    }
    if (listed.datum) {
      argument.value = inspect::value_of(*listed.datum, scope, {.elements = 4, .depth = 2});
    } else {
      argument.unknown = listed.datum.error().message;
    }
    result.push_back(std::move(argument));
  }
  return result;
}

}  // namespace

std::vector<FrameRow> frame_rows(Modules& modules, const state::StateView& view,
                                 const std::vector<inspect::Frame>& frames) {
  std::vector<FrameRow> result;
  for (const inspect::Frame& frame : frames) {
    FrameRow row;
    row.address = frame.address();
    row.place = frame.at_call ? modules.return_name(frame.address()) : modules.place_name(frame.address());
    row.cfa = frame.cfa;
    row.how = frame.how;
    row.signal = frame.signal;
    const auto index = static_cast<std::size_t>(&frame - frames.data());
    const auto tail = index + 1 < frames.size() ? tail_call(modules, view, frame, frames[index + 1]) : std::nullopt;
    const Module* module = modules.at(frame.inside());
    const std::size_t inlined =
        module != nullptr ? Modules::debug(*module).scopes.inlined_at(frame.inside() - module->bias).size() : 0;
    // The call that was inlined last is the innermost frame; its caller stands where the call is written.
    for (auto depth = static_cast<unsigned>(inlined);; --depth) {
      Where where = where_at(modules, frame.inside(), Level{depth, {}, 0});
      row.number = result.size();
      row.depth = depth;
      row.frame = index;
      row.inlined = std::move(where.inlined);
      row.file = std::move(where.file);
      row.line = where.line;
      // What the library's headers have inlined into own code is not own.
      row.own =
          modules.is_own_line(frame.inside()) && (row.inlined.empty() || module->program->is_own_source(row.file));
      row.parameters = parameters(modules, view, frame, depth);
      if (depth == 0 && tail) row.tail = tail->function;
      result.push_back(row);
      if (depth == 0) break;
    }
  }
  return result;
}

std::vector<RegisterRow> register_rows(Modules& modules, const state::StateView& view,
                                       const state::RegisterSet& before) {
  std::vector<RegisterRow> result;
  const bool wide = view.mode() == isa::Mode::bits64;
  // The kernel leaves more than 32 bits in registers of 32-bit code that stands in a system call.
  const std::uint64_t mask = wide ? ~std::uint64_t(0) : 0xffffffff;
  for (std::size_t i = 0; i < state::kRegCount; ++i) {
    const auto reg = static_cast<Reg>(i);
    if (reg > Reg::rip || (!wide && reg >= Reg::r8 && reg <= Reg::r15)) continue;
    RegisterRow row;
    row.name = state::name_of(reg, view.mode());
    row.value = view.registers()[reg] & mask;
    row.known = (view.known_registers() >> i & 1) != 0;
    if ((before[reg] & mask) != row.value) row.before = before[reg] & mask;
    const std::uint64_t stack = view.registers()[Reg::rsp];
    if (row.before) row.before_is_address = address_name(modules, view, *row.before, stack).known();
    if (row.known) row.address = address_name(modules, view, row.value, stack);
    if (reg == Reg::rsp && !row.address.region.empty()) row.address.region = "stack";
    result.push_back(std::move(row));
  }
  return result;
}

}  // namespace deeptrace::look
