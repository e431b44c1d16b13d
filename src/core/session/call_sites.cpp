#include "session/call_sites.h"

#include <algorithm>

#include "isa/walk.h"
#include "program/references.h"

namespace deeptrace::session {
namespace {

using isa::ControlFlow;
using program::Function;
using program::Program;
using Origin = Function::Origin;

class Finder {
 public:
  Finder(const look::Module& module, const std::function<bool(std::string_view)>& own_elsewhere)
      : module_(module), program_(*module.program), own_elsewhere_(own_elsewhere), references_(program_) {}

  CallSites run() {
    for (const Function& function : program_.functions()) {
      if (!program_.is_own(function) || function.origin == Origin::plt) continue;
      if (is_helper(function)) continue;
      if (function.origin != Origin::section && !function.is_cold_part())
        sites_.entries.push_back(function.address + module_.bias);
      references_.each(function, [&](std::uint64_t address, const isa::Instruction& instruction,
                                     std::span<const program::CodeReference> found) {
        if (leaves(function, address, instruction, found)) sites_.calls.push_back(address + module_.bias);
      });
    }
    return std::move(sites_);
  }

 private:
  bool leaves(const Function& function, std::uint64_t address, const isa::Instruction& instruction,
              std::span<const program::CodeReference> found) const {
    if (!instruction) return false;
    const ControlFlow flow = isa::flow_of(instruction);
    if (flow != ControlFlow::call && flow != ControlFlow::jump) return false;
    std::uint64_t target = 0;
    const bool calls = flow == ControlFlow::call;
    if (!isa::direct_target(instruction, address, target)) return calls || is_through_import(found);
    const Function* there = program_.function_at(target);
    if (there == nullptr || there == &function || there->address != target) return false;
    if (there->origin == Origin::plt) return !own_elsewhere_(there->name.symbol());
    return !program_.is_own(*there) && !there->is_cold_part() && !is_helper(*there);
  }

  /// Tells 32-bit code where it is: a part of its caller rather than a function.
  bool is_helper(const Function& function) const { return program::register_of_thunk(program_, function.address) >= 0; }

  /// A jump through a slot that the dynamic linker fills: the others may be jump tables.
  bool is_through_import(std::span<const program::CodeReference> found) const {
    return std::ranges::any_of(found, [&](const program::CodeReference& one) {
      const binary::Relocation* slot = one.through_slot ? program_.relocation_in(one.target, 1) : nullptr;
      return slot != nullptr;
    });
  }

  const look::Module& module_;
  const Program& program_;
  const std::function<bool(std::string_view)>& own_elsewhere_;
  program::References references_;
  CallSites sites_;
};

}  // namespace

CallSites call_sites_of(const look::Module& module, const std::function<bool(std::string_view)>& own_elsewhere) {
  return Finder(module, own_elsewhere).run();
}

}  // namespace deeptrace::session
