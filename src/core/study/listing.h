// The work of `listing`: a file's instructions, function by function, as rows into a sink.
#pragma once

#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "isa/instruction.h"
#include "isa/text.h"
#include "program/inlining.h"
#include "program/instances.h"
#include "program/program.h"

namespace deeptrace::study {

struct ListingRequest {
  std::vector<std::string> where;  ///< locations; empty: all own functions
  bool meaning = false;            ///< a sentence for each instruction
  bool data_as_code = false;       ///< data among code is decoded like everything else
  isa::Syntax syntax = isa::Syntax::intel;
};

/// A function that was asked for by name and is more than one piece of code.
struct ListedInstances {
  std::string name;
  program::InstanceCounts counts;
  std::vector<std::string> inlined_in;  ///< where its inlined copies lie: "main+0x34", the first dozen
};

struct ListedFile {
  const program::Program* program = nullptr;
  std::size_t functions = 0;      ///< that will be listed
  std::size_t functions_all = 0;  ///< in the file
  std::span<const ListedInstances> instances = {};
};

struct ListedFunction {
  std::string_view name;
  program::Function::Origin origin = program::Function::Origin::symbol;
  std::string_view section;
  std::uint64_t address = 0;  ///< in an object file: within its section
  std::uint64_t size = 0;     ///< bytes
  std::string_view file;      ///< source path; empty when unknown
  std::uint32_t line = 0;     ///< 0 when unknown
};

enum class Content : std::uint8_t {
  instruction,
  unknown,  ///< a byte that control reaches, but no known instruction starts there
  string,   ///< data: readable characters
  bytes,    ///< other data
};

/// Entries of a jump table that lead to one place.
struct SwitchCase {
  std::vector<std::uint64_t> entries;  ///< numbers, ascending
  std::uint64_t target = 0;            ///< in an object file: within its section
  std::string name;                    ///< "main+0x20"
};

struct ListedInstruction {
  std::uint64_t address = 0;  ///< in an object file: within its section
  std::uint64_t offset = 0;   ///< bytes from the function's start
  Bytes bytes;
  Content content = Content::instruction;
  std::string_view text;  ///< of an instruction; of data the readable characters, raw, with dots for the others
  isa::ControlFlow kind = isa::ControlFlow::next;
  std::optional<std::uint64_t> target;  ///< address of a direct target or fixed memory operand
  std::string_view target_name;         ///< what is there; empty when unknown
  std::string_view target_text;         ///< the readable string there, raw; empty when there is none
  std::string_view target_value;        ///< the floating-point constant that is read there; empty when there is none
  std::string_view file;                ///< source path; empty when the instruction belongs to no line
  std::uint32_t line = 0;
  std::span<const program::Inlined> inlined;  ///< the inlined calls that it stands in, outermost first
  std::span<const SwitchCase> cases;          ///< of a jump through a table
  std::string_view label;                     ///< a symbol that stands here
  std::string_view meaning;
};

/// Receives the rows. Views hold during the call only.
class ListingSink {
 public:
  virtual ~ListingSink() = default;
  virtual void begin(const ListedFile& file) = 0;
  virtual void begin_function(const ListedFunction& function) = 0;
  virtual void instruction(const ListedInstruction& row) = 0;
  virtual void end_function() = 0;
  virtual void end() = 0;
};

struct ListingSummary {
  std::size_t functions = 0;
  std::size_t instructions = 0;
  std::size_t undecoded = 0;  ///< bytes
  std::size_t data = 0;       ///< bytes
};

/// The name of a control flow kind in machine-readable forms.
std::string_view kind_name(isa::ControlFlow kind);

/// A range to list and the function that it belongs to (null: none); several pieces when a range spans functions.
struct ListingPiece {
  const program::Function* function = nullptr;
  program::AddressRange range;
};

/// What a request goes over. Pieces can be listed apart from each other, by several threads.
struct ListingPlan {
  const program::Program* program = nullptr;
  ListingRequest request;
  std::vector<ListingPiece> pieces;
  std::vector<ListedInstances> instances = {};

  [[nodiscard]] ListedFile file() const;
};

/// Errors: a location that stands for nothing.
Result<ListingPlan> plan_listing(const program::Program& program, const ListingRequest& request);

/// Lists pieces of a plan, which must outlive it. Each thread takes its own.
class PieceLister {
 public:
  explicit PieceLister(const ListingPlan& plan);
  ~PieceLister();
  void list(const ListingPiece& piece, ListingSink& sink);
  [[nodiscard]] const ListingSummary& summary() const;

 private:
  class Work;
  std::unique_ptr<Work> work_;
};

/// Lists all of it.
ListingSummary list(const ListingPlan& plan, ListingSink& sink);

}  // namespace deeptrace::study
