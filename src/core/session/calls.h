// The work of `calls`: a program runs, and every call of the developer's own functions is a row, and every call that
// these make of libraries' functions: what was passed, in which registers, what came back, and how long it took.
//
// A thread stops where an own function begins, at calls that leave own code, and where calls come back; the program
// runs on at once. Times include that.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/result.h"
#include "control/control.h"
#include "look/argument.h"
#include "look/level.h"
#include "look/signature.h"
#include "session/run_end.h"

namespace deeptrace::session {

struct CallsRequest {
  control::ControlOptions control;
  std::vector<std::string> of;         ///< functions: their calls, and those made in them; empty: all own ones
  std::optional<std::uint64_t> depth;  ///< levels of calls that are rows, from 1
  std::optional<std::uint64_t> count;  ///< rows after which the program is ended, or let go
  std::optional<std::uint64_t> limit;  ///< rows that are listed; those after them are counted
  bool check = false;                  ///< the rules of the calling convention, too
  bool inlined = false;                ///< calls that the compiler has inlined are rows, too
  bool every_instruction = false;      ///< the program is stepped, and each call's instructions are counted
};

/// What is called.
struct Callee {
  std::uint64_t address = 0;
  std::string function;  ///< as sources have it
  bool own = false;
  bool inferred = false;  ///< nothing says what it takes: by the registers that it reads before it writes them
  look::Signature signature;
};

/// Where a call is made.
struct CallOrigin {
  std::uint64_t address = 0;  ///< of the instruction; 0: unknown
  look::Where where;
};

struct CallRow {
  std::uint64_t number = 0;   ///< from 1, in the order in which calls began
  std::uint64_t parent = 0;   ///< the row that it was made in; 0: none
  std::uint64_t process = 1;  ///< from 1
  std::uint64_t thread = 1;   ///< of the process, from 1
  std::uint64_t depth = 0;    ///< rows around it
  enum class By : std::uint8_t {
    call,
    indirect,  ///< through a pointer
    jump,      ///< by a function that was left for good (a tail call): `from` has it
    signal,    ///< a signal's handler
    start,     ///< no call: the program's entry, a new context
    inlined,   ///< by the compiler: what it is given is seen, and nothing else
  };
  By by = By::call;
  const Callee* callee = nullptr;
  const CallOrigin* from = nullptr;
  std::string object;  ///< the class of the object that a function called through a pointer is given; empty: none
  std::vector<look::Argument> arguments;
  std::uint64_t start = 0;  ///< nanoseconds since tracing began
  // When it is over:
  enum class End : std::uint8_t {
    returned,
    jumped,     ///< it left its frame and went on in the function that is the next row of this depth
    thrown,     ///< left by an exception
    left,       ///< left without a return, by longjmp or the like
    inlined,    ///< its end is not seen
    unfinished  ///< the thread or the program ended in it
  };
  End end = End::unfinished;
  std::uint64_t duration = 0;
  /// From its first instruction (of what leaves own code: from the call) to its return, what it calls included; each
  /// repetition of a string instruction is one.
  std::optional<std::uint64_t> instructions;
  std::optional<inspect::Value> result;
  std::string result_where;  ///< "eax"; empty: it returns nothing
  std::vector<look::Finding> findings;
};

struct CallsStart {
  std::string program;
  bool attached = false, randomised = false, children = false, checked = false, stepped = false;
};

struct CallsSummary {
  std::uint64_t rows = 0;
  std::uint64_t unlisted = 0;          ///< of the rows, those beyond the limit
  std::uint64_t too_deep = 0;          ///< calls that are no rows, being deeper than anybody reads (kDeepest)
  std::uint64_t wrong = 0, noted = 0;  ///< findings of the checks
  RunEnd end;
  std::vector<std::string> notes;
};

/// Levels of rows at most: of a recursion that is deeper, calls are counted.
inline constexpr std::uint64_t kDeepest = 10000;

/// Rows come twice: when the call begins, and when it is over. References hold during the call only.
class CallsSink {
 public:
  virtual ~CallsSink() = default;
  virtual void begin(const CallsStart& start) = 0;
  virtual void entered(const CallRow& row) = 0;
  virtual void over(const CallRow& row) = 0;
  /// The program runs on without a call: rows that were kept back can be shown.
  virtual void pause() {}
  virtual void end(const CallsSummary& summary) = 0;
};

/// Errors: a program that cannot be run or attached to; a name that no function has (Fault::usage).
Result<CallsSummary> calls(CallsRequest request, CallsSink& sink);

}  // namespace deeptrace::session
