// Any bytes as what people write: plans, stop points, expressions. Whatever comes must be an answer or an error that
// says where, inside the text.
#include <cstdint>
#include <cstdlib>
#include <string_view>

#include "control/halt_rule.h"
#include "inspect/expression.h"
#include "session/plan.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace deeptrace;
  const std::string_view text(reinterpret_cast<const char*>(data), size);
  (void)session::parse_plan("a.plan", text);
  std::size_t at = 0;
  if (!inspect::Expression::parse(text, nullptr, &at) && at > size) std::abort();
  at = 0;
  if (const auto rule = control::parse_halt_rule(text, &at)) {
    // What is written out again is the same rule.
    const auto again = control::parse_halt_rule(rule->text());
    if (!again || again->text() != rule->text()) std::abort();
  } else if (at > size) {
    std::abort();
  }
  return 0;
}
