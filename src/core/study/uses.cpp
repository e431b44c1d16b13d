#include "study/uses.h"

#include <algorithm>
#include <set>

#include "abi/system_calls.h"
#include "arch/relocations.h"
#include "base/number.h"
#include "base/similar_names.h"
#include "debuginfo/variables.h"
#include "isa/operand.h"
#include "program/inlining.h"
#include "program/instances.h"
#include "program/location.h"

namespace deeptrace::study {
namespace {

using program::AddressRange;
using program::CodeReference;
using program::Function;
using program::Program;
using program::UseKind;

/// Places in the file that stand for what was asked for.
struct Target {
  UsesHead head;
  std::vector<AddressRange> ranges;  ///< the thing itself: a function's first byte, a variable's bytes
  std::vector<AddressRange> stubs;   ///< PLT stubs that jump to it
  std::vector<std::uint64_t> slots;  ///< that hold its address when the program runs
  std::set<std::string_view> symbols;
  bool is_function = false;
  std::optional<AddressRange> in_thread;  ///< of a thread's own variable: bytes from the thread pointer, below 0

  [[nodiscard]] bool empty() const {
    return ranges.empty() && stubs.empty() && slots.empty() && symbols.empty() && !in_thread;
  }
};

bool overlaps(const AddressRange& range, std::uint64_t from, std::uint64_t size) {
  return from < range.to && range.from < from + std::max<std::uint64_t>(size, 1);
}

class Search {
 public:
  Search(const Program& program, const UsesRequest& request)
      : program_(program), request_(request), types_(program.debug()), references_(program) {}

  Result<UsesSummary> run(UsesSink& sink) {
    sink_ = &sink;
    if (request_.system_call) {
      if (auto error = find_calls()) return *error;
    } else {
      if (auto error = resolve()) return *error;
      sink_->begin(target_.head);
      find();
    }
    sink_->end(summary_);
    return summary_;
  }

 private:
  // What is meant.

  std::optional<Error> resolve() {
    const std::string& what = request_.what;
    target_.head.program = &program_;
    target_.head.name = what;
    if (!program_.functions_named(what).empty()) add_instances(what);
    if (target_.ranges.empty()) add_variables(what);
    if (target_.ranges.empty()) add_thread_variable(what);
    if (target_.ranges.empty()) add_imported(what);
    if (target_.empty()) add_part(what);
    if (target_.empty() && !number_in(what)) {
      const program::Program::Meant meant = program_.functions_meant(what);
      if (meant.names.size() > 1) return Error{Fault::usage, what + ": " + meant.words()};
      if (auto error = add_instances(what)) return error;
    }
    if (target_.empty() && inlined_.empty()) {
      if (const auto address = number_in(what)) {
        add_address(*address);
      } else if (auto error = add_location(what)) {
        return error;
      }
    }
    add_slots();
    return std::nullopt;
  }

  /// Functions, their clones and inlined copies.
  std::optional<Error> add_instances(std::string_view what) {
    program::Instances instances = program::instances_of(program_, what);
    if (!instances.ambiguous.empty()) return Error{Fault::usage, std::string(what) + ": " + instances.ambiguous};
    for (const auto* list : {&instances.functions, &instances.clones}) {
      for (const Function* function : *list) {
        // The part of a function that was split off is reached from the function only.
        const bool part = function->symbol().find(".cold") != std::string_view::npos && function->symbol() != what;
        if (function->origin == Function::Origin::symbol && !part) add_function(*function);
      }
    }
    target_.head.instances = instances.counts();
    if (target_.head.kind.empty() && !instances.inlined.empty()) target_.head.kind = "function";
    inlined_ = std::move(instances.inlined);
    return std::nullopt;
  }

  void add_function(const Function& function) {
    if (!target_.is_function) {
      target_.head.name = function.name;
      target_.head.kind = "function";
      target_.head.address = program_.elf().section_offset(function.address);
      target_.head.size = function.size;
    }
    target_.is_function = true;
    target_.ranges.push_back({function.address, function.address + 1});
    target_.symbols.insert(function.symbol());
  }

  void add_variables(std::string_view what) {
    const auto last_part = [what](std::string_view name) {
      return name == what || (name.size() > what.size() && name.ends_with(what) &&
                              name.substr(0, name.size() - what.size()).ends_with("::"));
    };
    const auto add = [&](std::string_view name, std::string_view symbol, std::uint64_t address, std::uint64_t size) {
      target_.head.name = name;
      target_.head.kind = "variable";
      target_.head.address = program_.elf().section_offset(address);
      target_.head.size = size;
      const AddressRange range{address, address + std::max<std::uint64_t>(size, 1)};
      if (std::ranges::find(target_.ranges, range) == target_.ranges.end()) target_.ranges.push_back(range);
      if (!symbol.empty()) target_.symbols.insert(symbol);
    };
    for (const debuginfo::StaticVariable& variable : debuginfo::static_variables(program_.debug(), types_)) {
      names_.insert(variable.name);
      if (variable.in_thread || !last_part(variable.name)) continue;
      add(variable.name, variable.linkage_name, variable.address, types_.size(variable.type));
      type_ = variable.type;
    }
    for (const auto* list : {&program_.data_symbols(), &program_.data_among_code()}) {
      for (const program::DataSymbol& symbol : *list) {
        if (symbol.in_thread || (symbol.symbol != what && program::demangled(symbol.symbol) != what)) continue;
        const bool known =
            std::ranges::any_of(target_.ranges, [&](const AddressRange& r) { return r.from == symbol.address; });
        if (known) {
          target_.symbols.insert(symbol.symbol);
        } else {
          add(program::demangled(symbol.symbol), symbol.symbol, symbol.address, symbol.size);
        }
      }
    }
  }

  /// "station.level", "log.readings[2]": a part of a variable, in files where addresses tell parts apart.
  void add_part(std::string_view what) {
    const std::size_t end = what.find_first_of(".[");
    if (end == std::string_view::npos || end == 0 || object()) return;
    add_variables(what.substr(0, end));
    const auto part = target_.ranges.size() == 1 ? types_.placed(type_, what.substr(end)) : std::nullopt;
    target_.symbols.clear();
    if (!part) {
      target_ = {};
      target_.head.program = &program_;
      return;
    }
    const std::uint64_t from = target_.ranges.front().from + part->offset, size = types_.size(part->type);
    target_.ranges = {{from, from + std::max<std::uint64_t>(size, 1)}};
    target_.head.name += what.substr(end);
    target_.head.address = program_.elf().section_offset(from);
    target_.head.size = size;
    type_ = part->type;
  }

  /// Each thread's own: the thread pointer stands after the block (ELF Handling For Thread-Local Storage, variant II).
  void add_thread_variable(std::string_view what) {
    for (const binary::Symbol& symbol : program_.elf().symbols()) {
      if (symbol.type != binary::kThreadLocal || symbol.section == 0) continue;
      const std::string name = program::demangled(symbol.name);
      names_.insert(name);
      if (symbol.name != what && name != what && !name.ends_with("::" + std::string(what))) continue;
      target_.head.name = name;
      target_.head.kind = "variable of each thread";
      target_.head.size = symbol.size;
      target_.symbols.insert(symbol.name);
      const std::uint64_t size = std::max<std::uint64_t>(symbol.size, 1);
      const std::uint64_t from = symbol.address + (object() ? 0 : program::thread_block(program_));
      target_.ranges.push_back({from, from + size});
      for (const binary::Segment& segment : program_.elf().segments()) {
        if (segment.type != binary::kThreadSegment) continue;
        const std::uint64_t alignment = std::max<std::uint64_t>(segment.alignment, 1);
        const std::uint64_t block = (segment.memory_size + alignment - 1) / alignment * alignment;
        target_.in_thread = {symbol.address - block, symbol.address - block + size};
      }
    }
  }

  void add_imported(std::string_view what) {
    for (const Function& function : program_.functions()) {
      if (function.origin != Function::Origin::plt || function.name != what) continue;
      target_.stubs.push_back(function.range());
      target_.is_function = true;
      target_.head.kind = "imported function";
    }
    for (const binary::Relocation& relocation : program_.relocations()) {
      if (relocation.defined || relocation.symbol.empty()) continue;
      if (relocation.symbol != what && program::demangled(relocation.symbol) != what) continue;
      target_.symbols.insert(relocation.symbol);
      if (target_.head.kind.empty()) target_.head.kind = "imported symbol";
    }
  }

  void add_address(std::uint64_t address) {
    target_.head.kind = "address";
    target_.head.name = program_.reference(address).name;
    if (target_.head.name.empty()) target_.head.name = request_.what;
    target_.head.address = address;
    target_.ranges.push_back({address, address + 1});
    const Function* function = program_.function_at(address);
    if (function != nullptr && function->address == address && !function->symbol().empty()) {
      target_.is_function = true;
      target_.symbols.insert(function->symbol());
    }
  }

  std::optional<Error> add_location(const std::string& what) {
    const auto addresses = program::addresses_of(program_, what);
    if (addresses) {
      for (const std::uint64_t address : *addresses) add_address(address);
      target_.head.name = what;
      return std::nullopt;
    }
    for (const Function& function : program_.functions()) {
      if (function.origin != Function::Origin::section)
        names_.insert(function.name.str().substr(0, function.name.str().find('(')));
    }
    for (const program::DataSymbol& symbol : program_.data_symbols()) names_.insert(program::demangled(symbol.symbol));
    std::string message = what + ": no such function, variable, label or address in " + program_.elf().path();
    message += similar_words(similar_names(names_, what));
    return Error{Fault::usage, message};
  }

  /// Slots of the global offset table that hold the address, and stubs that go through them.
  void add_slots() {
    if (program_.elf().kind() == binary::Kind::relocatable) return;
    for (const binary::Relocation& relocation : program_.relocations()) {
      const bool named =
          !relocation.symbol.empty() && relocation.addend == 0 && target_.symbols.contains(relocation.symbol);
      const bool relative = relocation.symbol.empty() && is_target(static_cast<std::uint64_t>(relocation.addend));
      if (!named && !relative) continue;
      const binary::Section* section = program_.elf().section_at(relocation.address);
      if (section != nullptr && section->name.starts_with(".got")) target_.slots.push_back(relocation.address);
    }
    for (const Function& function : program_.functions()) {
      if (function.origin == Function::Origin::plt && !target_.symbols.empty() && target_.is_function &&
          target_.symbols.contains(function.name) && target_.stubs.empty())
        target_.stubs.push_back(function.range());
    }
    std::ranges::sort(target_.slots);
  }

  [[nodiscard]] bool is_target(std::uint64_t address) const {
    return std::ranges::any_of(target_.ranges, [&](const AddressRange& r) { return r.from == address; });
  }

  // Who uses it.

  /// Where its code stands in place of a call.
  void find_inlined(const Function& function) {
    auto next = std::ranges::lower_bound(inlined_, function.address, {}, &debuginfo::InlinedCopy::address);
    for (; next != inlined_.end() && function.range().holds(next->address()); ++next) {
      const debuginfo::InlinedCopy& copy = *next;
      Use use;
      place(use, copy.address());
      use.how = UseKind::inlined;
      use.text = isa::text_of(isa::decode(program_.elf().bytes_at(copy.address()), program_.mode()), use.address,
                              request_.syntax)
                     .view();
      if (const auto call = inlining_.call_of(copy); call && call->line != 0) {
        use.file = call->file;
        use.line = call->line;
      }
      sink_->use(use);
      ++summary_.uses;
    }
  }

  void find() {
    if (program_.elf().kind() == binary::Kind::relocatable) index_relocations();
    for (const Function& function : program_.functions()) {
      if (function.origin == Function::Origin::plt) continue;
      function_ = &function;
      find_inlined(function);
      if (target_.in_thread) find_in_thread(function);
      if (target_.empty() || !may_use(function)) continue;
      references_.each_straight(function,
                                [&](std::uint64_t address, const isa::Instruction& instruction,
                                    std::span<const CodeReference> found) { look_at(address, instruction, found); });
    }
    find_in_data();
  }

  /// Accesses through fs (gs in 32-bit programs) by the distance from the thread pointer.
  void find_in_thread(const Function& function) {
    const std::uint8_t segment = arch::machine_of(program_.mode()).thread_segment;
    references_.each(
        function, [&](std::uint64_t address, const isa::Instruction& instruction, std::span<const CodeReference>) {
          if (instruction.segment_override() != segment || instruction.displacement_size != 4) return;
          for (const isa::Operand& operand : isa::operands_of(instruction)) {
            if (operand.kind != isa::Operand::Kind::memory || !operand.recipe.is_absolute()) continue;
            const auto distance = static_cast<std::uint64_t>(static_cast<std::int64_t>(instruction.displacement));
            const std::uint64_t from = target_.in_thread->from, size = target_.in_thread->size();
            if (distance - from >= size) continue;
            const UseKind how = isa::reads(operand.access)
                                    ? (isa::writes(operand.access) ? UseKind::read_write : UseKind::read)
                                    : UseKind::write;
            add(address, instruction, how, distance - from, operand.width / 8U, false);
          }
        });
  }

  /// A quick look that leaves out most functions: does anything in it come near the target?
  bool may_use(const Function& function) {
    if (object()) {
      const auto first = std::ranges::lower_bound(used_at_, function.address);
      return (first != used_at_.end() && *first < function.address + function.size) || follows_itself(function);
    }
    bool near = false;
    references_.each(function, [&](std::uint64_t, const isa::Instruction&, std::span<const CodeReference> found) {
      for (const CodeReference& reference : found) near |= is_near(reference.target);
    });
    return near;
  }

  /// In an object file calls within a section may need no relocation.
  bool follows_itself(const Function& function) {
    return std::ranges::any_of(target_.ranges, [&](const AddressRange& range) {
      const binary::Section* section = program_.elf().section_at(range.from);
      return section != nullptr && section->index == function.section;
    });
  }

  [[nodiscard]] bool is_near(std::uint64_t address) const {
    // A register may point to a neighbour: the structure that a member lies in.
    constexpr std::uint64_t kAround = 4096;
    const auto close = [&](std::uint64_t from, std::uint64_t to) {
      return address + kAround >= from && address < to + kAround;
    };
    if (std::ranges::any_of(target_.ranges, [&](const AddressRange& r) {
          return target_.is_function ? r.holds(address) : close(r.from, r.to);
        }))
      return true;
    if (std::ranges::any_of(target_.stubs, [&](const AddressRange& r) { return r.holds(address); })) return true;
    if (std::ranges::binary_search(target_.slots, address)) return true;
    if (target_.in_thread && calls_thread_helper(address)) return true;
    // 32-bit code finds its table through a helper: whatever calls one may use anything.
    return program_.mode() == isa::Mode::bits32 && is_thunk(address);
  }

  [[nodiscard]] bool calls_thread_helper(std::uint64_t address) const {
    const Function* function = program_.function_at(address);
    return function != nullptr && program::gives_thread_address(*function);
  }

  [[nodiscard]] bool is_thunk(std::uint64_t address) const {
    const Function* function = program_.function_at(address);
    return function != nullptr && function->address == address && function->size <= 8;
  }

  [[nodiscard]] bool object() const { return program_.elf().kind() == binary::Kind::relocatable; }

  void look_at(std::uint64_t address, const isa::Instruction& instruction, std::span<const CodeReference> found) {
    if (object()) {
      // An instruction may hold two: an address in memory, and one as the value that is put there.
      const auto& all = program_.relocations();
      auto relocation = std::ranges::lower_bound(all, address, {}, &binary::Relocation::address);
      const auto first = relocation;
      for (; relocation != all.end() && relocation->address < address + instruction.length; ++relocation)
        look_at(*relocation, address, instruction);
      // Without one only what is counted from the instruction itself means anything yet.
      std::uint64_t unused = 0;
      const bool counted = isa::direct_target(instruction, address, unused) || instruction.is_ip_relative();
      if (first != relocation || !counted) return;
    }
    std::vector<std::pair<UseKind, std::uint64_t>> listed;
    for (const CodeReference& reference : found) {
      UseKind how = reference.kind;
      std::uint64_t offset = 0;
      if (std::ranges::binary_search(target_.slots, reference.target)) {
        if (target_.in_thread && how == UseKind::call) continue;  // of a helper whose address lies there
        // What lies in the slot is its address.
        if (how == UseKind::read) how = UseKind::address;
        if (how == UseKind::write || how == UseKind::read_write) continue;
      } else if (std::ranges::any_of(target_.stubs,
                                     [&](const AddressRange& r) { return r.from == reference.target; })) {
        if (how == UseKind::read) continue;
      } else {
        if (reference.through_slot && target_.is_function) continue;
        const AddressRange* range = hit(reference);
        if (range == nullptr) continue;
        if (reference.through_slot) how = UseKind::read;
        offset = reference.target - range->from;
      }
      if (std::ranges::find(listed, std::pair{how, offset}) != listed.end()) continue;
      listed.emplace_back(how, offset);
      add(address, instruction, how, offset, reference.size, reference.computed);
    }
  }

  [[nodiscard]] const AddressRange* hit(const CodeReference& reference) const {
    const auto found = std::ranges::find_if(target_.ranges, [&](const AddressRange& r) {
      return overlaps(r, reference.target, target_.is_function ? 1 : reference.size);
    });
    return found == target_.ranges.end() ? nullptr : &*found;
  }

  // Object files: the relocation says what is meant.

  void index_relocations() {
    for (const binary::Relocation& relocation : program_.relocations()) {
      if (offset_in_target(relocation, 0)) used_at_.push_back(relocation.address);
    }
    std::ranges::sort(used_at_);
  }

  /// Where in the target a relocation leads; nothing when it leads elsewhere.
  [[nodiscard]] std::optional<std::uint64_t> offset_in_target(const binary::Relocation& relocation,
                                                              std::int64_t distance) const {
    const auto offset = static_cast<std::uint64_t>(relocation.addend + distance);
    if (relocation.defined) {
      const std::uint64_t address = relocation.symbol_value + offset;
      for (const AddressRange& range : target_.ranges) {
        if (range.holds(address)) return address - range.from;
        // Without the instruction's length its end is not known; let what is close through.
        if (distance == 0 && address + 16 >= range.from && address < range.to) return 0;
      }
      return std::nullopt;
    }
    if (!relocation.symbol.empty() && target_.symbols.contains(relocation.symbol)) return offset;
    return std::nullopt;
  }

  void look_at(const binary::Relocation& relocation, std::uint64_t address, const isa::Instruction& instruction) {
    const std::int64_t distance = program_.distance_in_addend(relocation, address, instruction.length);
    const auto offset = offset_in_target(relocation, distance);
    if (!offset) return;
    const std::uint64_t address_in = relocation.symbol_value + static_cast<std::uint64_t>(relocation.addend + distance);
    if (relocation.defined &&
        !std::ranges::any_of(target_.ranges, [&](const AddressRange& r) { return r.holds(address_in); }))
      return;
    const isa::ControlFlow flow = isa::flow_of(instruction);
    UseKind how = UseKind::address;
    std::uint64_t unused = 0, size = 0;
    // Moves of the accumulator have the whole address where others have an immediate.
    const std::uint64_t at =
        isa::brief_of(instruction.row).has_absolute() ? instruction.immediate_at : instruction.displacement_at;
    const bool at_displacement = at != 0 && relocation.address == address + at;
    if (isa::direct_target(instruction, address, unused) || (flow == isa::ControlFlow::call && at_displacement)) {
      how = flow == isa::ControlFlow::call ? UseKind::call : UseKind::jump;
    } else if (at_displacement) {
      for (const isa::Operand& operand : isa::operands_of(instruction)) {
        if (operand.kind != isa::Operand::Kind::memory || operand.width == 0 || operand.hidden) continue;
        size = operand.width / 8U;
        how = isa::reads(operand.access) ? (isa::writes(operand.access) ? UseKind::read_write : UseKind::read)
                                         : UseKind::write;
      }
      if (is_table_slot(relocation) || asks_for_thread_address(relocation)) how = UseKind::address;
    }
    add(address, instruction, how, *offset, size, false);
  }

  /// The relocation asks for a slot of the global offset table, which will hold the address.
  [[nodiscard]] bool is_table_slot(const binary::Relocation& relocation) const {
    return arch::relocation_means(relocation.type, program_.mode(), arch::RelocationKind::kTableSlot);
  }

  /// The instruction gets what leads to the variable in a thread's block: a distance or a descriptor.
  [[nodiscard]] bool asks_for_thread_address(const binary::Relocation& relocation) const {
    return arch::relocation_means(relocation.type, program_.mode(), arch::RelocationKind::kThreadAddress);
  }

  void add(std::uint64_t address, const isa::Instruction& instruction, UseKind how, std::uint64_t offset,
           std::uint64_t size, bool computed) {
    Use use;
    place(use, address);
    use.how = how;
    use.computed = computed;
    use.text = isa::text_of(instruction, use.address, request_.syntax).view();
    use.part = part_at(offset, size);
    sink_->use(use);
    ++summary_.uses;
  }

  void place(Use& use, std::uint64_t address) {
    use.address = program_.elf().section_offset(address);
    if (const binary::Section* section = program_.elf().section_at(address)) use.section = section->name;
    if (function_ != nullptr) {
      use.function = function_->name;
      use.offset = address - function_->address;
    }
    if (const auto line = program_.lines().at(address)) {
      use.file = program_.source_path(*line);
      use.line = line->line;
    }
  }

  std::string part_at(std::uint64_t offset, std::uint64_t access) {
    return target_.is_function || target_.ranges.empty() ? std::string() : types_.part_name(type_, offset, access);
  }

  /// Addresses that the loader or linker puts into data: tables of functions, pointers.
  void find_in_data() {
    function_ = nullptr;
    for (const binary::Relocation& relocation : program_.relocations()) {
      const binary::Section* section = program_.elf().section_at(relocation.address);
      if (section == nullptr || section->is_code() || section->name.starts_with(".got") ||
          section->name.starts_with(".eh_frame") || section->name.starts_with(".debug") || section->name == ".plt.got")
        continue;
      std::optional<std::uint64_t> offset;
      if (relocation.symbol.empty()) {
        const auto value = static_cast<std::uint64_t>(relocation.addend);
        for (const AddressRange& range : target_.ranges) {
          if (range.holds(value)) offset = value - range.from;
        }
      } else if (target_.symbols.contains(relocation.symbol)) {
        offset = static_cast<std::uint64_t>(relocation.addend);
      } else if (relocation.defined) {
        const std::uint64_t value = relocation.symbol_value + static_cast<std::uint64_t>(relocation.addend);
        for (const AddressRange& range : target_.ranges) {
          if (range.holds(value)) offset = value - range.from;
        }
      }
      if (!offset) continue;
      Use use;
      place(use, relocation.address);
      use.in_data = true;
      use.how = UseKind::address;
      use.text = program_.reference(relocation.address).name;
      // A slot is called after what it holds; here the place counts.
      if (use.text.empty() || use.text == target_.head.name)
        use.text = std::string(section->name) + "+" + std::to_string(relocation.address - section->address);
      use.part = part_at(*offset, 0);
      sink_->use(use);
      ++summary_.uses;
    }
  }

  // System calls.

  std::optional<Error> find_calls() {
    const auto number = number_in(request_.what);
    const abi::SystemCall* wide =
        number ? abi::system_call(*number) : abi::system_call(request_.what, abi::CallTable::x86_64);
    const abi::SystemCall* narrow = number ? abi::system_call(*number, abi::CallTable::i386)
                                           : abi::system_call(request_.what, abi::CallTable::i386);
    if (!number && wide == nullptr && narrow == nullptr) {
      std::set<std::string> names;
      for (const abi::SystemCall& call : abi::system_calls(abi::CallTable::x86_64))
        names.insert(std::string(call.name));
      std::string message = request_.what + ": no such system call";
      message += similar_words(similar_names(names, request_.what));
      return Error{Fault::usage, message};
    }
    const abi::SystemCall* own = program_.elf().wide() ? wide : narrow;
    target_.head = {&program_, own != nullptr ? std::string(own->name) : request_.what, "system call", 0, 0, {}};
    sink_->begin(target_.head);
    for (const Function& function : program_.functions()) {
      if (function.origin == Function::Origin::plt) continue;
      function_ = &function;
      if (!has_system_call(function)) continue;
      references_.each_state(
          function, [&](std::uint64_t address, const isa::Instruction& instruction, const state::Known& known) {
            if (isa::flow_of(instruction) != isa::ControlFlow::system) return;
            const bool gate = isa::brief_of(instruction.row).is_gate() || !program_.elf().wide();
            const auto found = known.value({isa::RegisterFile::general, isa::kRax, 0, 32});
            if (!found) {
              ++summary_.unknown_calls;
              return;
            }
            const abi::SystemCall* wanted = gate ? narrow : wide;
            const bool same = number ? *found == *number : wanted != nullptr && *found == wanted->number;
            if (same) add(address, instruction, UseKind::call, 0, 0, false);
          });
    }
    return std::nullopt;
  }

  bool has_system_call(const Function& function) {
    bool any = false;
    references_.each(function, [&](std::uint64_t, const isa::Instruction& instruction, std::span<const CodeReference>) {
      any |= isa::flow_of(instruction) == isa::ControlFlow::system;
    });
    return any;
  }

  const Program& program_;
  const UsesRequest& request_;
  UsesSink* sink_ = nullptr;
  debuginfo::Types types_;
  program::References references_;
  Target target_;
  debuginfo::TypeId type_ = debuginfo::kVoid;
  std::set<std::string> names_;
  std::vector<debuginfo::InlinedCopy> inlined_;  ///< by address
  program::Inlining inlining_{program_};
  std::vector<std::uint64_t> used_at_;  ///< object files: addresses of relocations that may mean the target
  const Function* function_ = nullptr;
  UsesSummary summary_;
};

}  // namespace

std::string_view name_of(UseKind how) {
  constexpr std::string_view kNames[] = {"read", "write", "readwrite", "call", "jump", "address", "inlined"};
  return kNames[static_cast<std::size_t>(how)];
}

Result<UsesSummary> list_uses(const Program& program, const UsesRequest& request, UsesSink& sink) {
  return Search(program, request).run(sink);
}

}  // namespace deeptrace::study
