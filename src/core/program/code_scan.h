// Code against data: which bytes of a range of code are instructions, and which are strings or other data that somebody
// put among them (messages past the last exit call of an assembly program, tables of constants, jump tables).
//
// Control flow is followed from where code can be entered: symbols, the entry point, initialisers, unwind tables,
// direct jumps and calls, addresses that instructions take, jump tables. What is never reached is weighed: readable
// text and what does not decode cleanly is data; so is what instructions read as memory. What a line table names, what
// decodes cleanly to its end and padding is code. Functions that compilers made are mostly seen to be all code in one
// pass.
#pragma once

#include <algorithm>
#include <cstdint>
#include <functional>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

#include "program/program.h"

namespace deeptrace::program {

struct Stretch {
  enum class Kind : std::uint8_t {
    code,    ///< instructions from the first byte on
    string,  ///< readable characters, with the zero bytes that end them
    bytes,   ///< other data
  };
  AddressRange range;
  Kind kind = Kind::code;
};

/// A table of code addresses that an indirect jump goes through.
struct JumpTable {
  std::uint64_t jump = 0;     ///< the address of the jump
  std::uint64_t address = 0;  ///< of the table
  unsigned entry_size = 0;    ///< bytes
  std::uint64_t entries = 0;
  /// What is added to an entry: 0 for entries that are addresses; the table's own address, or that of the global offset
  /// table (32-bit position-independent code), for distances. In an object file an entry's relocation says more.
  std::uint64_t base = 0;
  [[nodiscard]] bool from_table() const { return base == address; }  ///< entries are distances from the table
  bool bounded = false;  ///< an instruction compares the index with the number of entries
};

/// Where entry `number` of a table leads; nothing where the file has no such entry. In an object file the relocation
/// says it.
std::optional<std::uint64_t> target_of(const Program& program, const JumpTable& table, std::uint64_t number);
/// All of them, up to the first that the file does not have or that `goes_on` refuses.
std::vector<std::uint64_t> targets_of(
    const Program& program, const JumpTable& table,
    const std::function<bool(std::uint64_t)>& goes_on = [](std::uint64_t) { return true; });

/// Not safe for use by two threads at once; each takes its own.
class CodeScan {
 public:
  explicit CodeScan(const Program& program);

  /// The range's stretches in order, without gaps. What lies around it in its functions decides too. The span holds
  /// until the next call.
  std::span<const Stretch> split(AddressRange range);

  /// The instructions of the function at `from` when the last split found all of it to be code: one after the other,
  /// to its end. Empty otherwise. The span holds until the next call.
  [[nodiscard]] std::span<const isa::Instruction> instructions_from(std::uint64_t from) const {
    return all_code_ && from == start_ ? std::span<const isa::Instruction>(instructions_)
                                       : std::span<const isa::Instruction>();
  }

  /// The jump tables of a function, in the order of discovery. The span holds until the next call.
  std::span<const JumpTable> tables_of(const Function& function);
  /// The table of the jump at an address in a function; nothing when none was found. What the last split gave stays.
  std::optional<JumpTable> table_of(const Function& function, std::uint64_t jump);
  /// After tables_of: an indirect jump whose table was not found although some of the function is reached by nothing
  /// else; 0 when there is none.
  [[nodiscard]] std::uint64_t unresolved_jump() const { return unreached_ ? unresolved_ : 0; }
  /// True of a direct call of a function that does not come back: exit, abort and their like.
  [[nodiscard]] bool is_final_call(const isa::Instruction& instruction, std::uint64_t address) const;

 private:
  void add(AddressRange range, Stretch::Kind kind);
  void look_at(const Function& function, bool for_tables = false);
  bool is_all_code();
  bool decode_all();
  bool pass_over();
  bool note_flow(std::size_t number, std::size_t at, bool& after_end);
  bool note_table(std::size_t number, std::size_t at);
  void note_jump(std::size_t from, std::uint64_t target);
  bool all_runs_reached();
  bool callee_never_returns(std::uint64_t target);
  void trace();
  void add_root(std::uint64_t address);
  void follow_all();
  void follow(std::uint64_t at);
  [[nodiscard]] bool fits(std::uint64_t at) const;
  bool follow_one(std::uint64_t& at);
  void jump_table(std::uint64_t jump);
  struct Placed {
    std::uint64_t address = 0;
    isa::Instruction instruction;
  };
  /// What an indirect jump may go through.
  struct Candidates {
    std::vector<JumpTable> tables;
    std::uint64_t bound = 0;  ///< entries, by the comparison of the index; 0: unknown
  };
  /// What a table of unknown length names.
  struct Doubtful {
    std::uint64_t target = 0;
    std::size_t table = 0;    ///< an index of tables_
    std::uint64_t entry = 0;  ///< its number there
  };
  [[nodiscard]] std::uint64_t entries_before_next(const JumpTable& table) const;
  [[nodiscard]] Candidates candidates(std::span<const Placed> backwards) const;
  void add_tables_named(const isa::Instruction& instruction, std::uint64_t at, std::vector<JumpTable>& tables) const;
  [[nodiscard]] bool count_entries(JumpTable& table, std::uint64_t bound) const;
  bool take_table(JumpTable table, std::uint64_t bound);
  [[nodiscard]] bool never_returns(const isa::Instruction& instruction, std::uint64_t address) const;
  void weigh_gaps();
  [[nodiscard]] Stretch::Kind weigh(std::uint64_t from, std::uint64_t to) const;
  [[nodiscard]] bool decodes_cleanly(std::uint64_t from, std::uint64_t to) const;
  void gather(AddressRange range);

  [[nodiscard]] isa::Instruction decode(std::uint64_t address) const;
  [[nodiscard]] bool holds(std::uint64_t address) const { return address - start_ < bytes_.size(); }

  enum Mark : std::uint8_t { kUnknown, kFirst, kInside, kText, kData };

  const Program& program_;
  isa::Mode mode_ = program_.mode();
  bool object_ = program_.elf().kind() == binary::Kind::relocatable;
  std::vector<Stretch> stretches_;
  const Function* function_ = nullptr;  ///< the one that was looked at last
  bool all_code_ = false;
  std::uint64_t start_ = 0;
  Bytes bytes_;
  Bytes bytes_on_;  ///< the same and what follows, so that the last instructions are decoded as quickly as others
  std::vector<std::uint8_t> marks_;             ///< a Mark for each byte
  std::vector<isa::Instruction> instructions_;  ///< of a function that is all code
  /// A run of instructions that control goes through from the first to the last, by what the one pass saw; in bytes
  /// from the function's start.
  struct Run {
    std::uint32_t from = 0, to = 0;      ///< `from` is no padding
    std::uint32_t reached = UINT32_MAX;  ///< the first byte that control is known to come to
  };
  struct Jump {
    std::uint32_t from = 0, to = 0;
  };
  std::vector<Run> runs_;
  std::vector<Jump> jumps_;  ///< of the one pass, those inside the function
  /// What the one pass saw of each byte.
  enum Seen : std::uint8_t { kBegins = 1, kArrivedAt = 2 };
  std::vector<std::uint8_t> seen_;
  bool in_order_ = true;                 ///< every run so far is come to from those before it
  std::vector<std::uint32_t> arrivals_;  ///< where jumps go that are still to be looked at
  /// Whether functions that were called lately never return.
  struct Callee {
    std::uint64_t address = 0;
    bool never_returns = false;
  };
  std::vector<Callee> callees_ = std::vector<Callee>(1024);
  std::vector<bool> read_;  ///< bytes at which instructions read or write memory
  std::vector<JumpTable> tables_;
  std::uint64_t unresolved_ = 0;  ///< an indirect jump without a table
  bool unreached_ = false;        ///< the flow did not reach some code
  std::vector<Doubtful> doubtful_;
  std::vector<std::uint64_t> open_;  ///< roots that are still to be followed
};

/// Calls `act(address, instruction)` for each instruction of the stretches that are code. Bytes at which none starts
/// are passed over one by one.
template <typename Act>
void for_each_instruction(const Program& program, std::span<const Stretch> stretches, Act&& act) {
  for (const Stretch& stretch : stretches) {
    if (stretch.kind != Stretch::Kind::code) continue;
    const Bytes code = program.elf().bytes_at(stretch.range.from);
    const std::uint64_t size = std::min<std::uint64_t>(stretch.range.size(), code.size());
    for (std::uint64_t at = 0; at < size;) {
      isa::Instruction instruction;
      const unsigned length = isa::decode(code.subspan(at, size - at), program.mode(), instruction);
      if (length != 0) act(stretch.range.from + at, instruction);
      at += std::max(length, 1U);
    }
  }
}

}  // namespace deeptrace::program
