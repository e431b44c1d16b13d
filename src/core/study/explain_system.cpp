#include "study/explain_system.h"

#include <algorithm>
#include <cctype>
#include <csignal>
#include <cstring>

#include "abi/call_errors.h"
#include "abi/call_shapes.h"
#include "abi/constants.h"
#include "abi/kernel_types.h"
#include "abi/signal_names.h"
#include "abi/system_calls.h"
#include "base/number.h"
#include "isa/register.h"

namespace deeptrace::study {
namespace {

using abi::ArgumentShape;
using abi::CallTable;
using isa::Mode;

std::string register_name(unsigned general, Mode mode) {
  return std::string(isa::name_of({isa::RegisterFile::general, static_cast<std::uint8_t>(general), 0,
                                   static_cast<std::uint16_t>(mode == Mode::bits64 ? 64 : 32)}));
}

Mode other(Mode mode) { return mode == Mode::bits64 ? Mode::bits32 : Mode::bits64; }

/// How much of an argument there is, in words: ": count bytes".
std::string count_words(const ArgumentShape& shape, const abi::CallShape& call) {
  using By = ArgumentShape::Count::By;
  using Kind = ArgumentShape::Kind;
  const bool bytes = shape.kind == Kind::bytes || shape.kind == Kind::socket_address || shape.kind == Kind::entries ||
                     shape.kind == Kind::signal_set || shape.kind == Kind::depends;
  const std::string unit = bytes ? " bytes" : " of them";
  switch (shape.count.by) {
    case By::one: return "";
    case By::number: return ": " + std::to_string(shape.count.number) + unit;
    case By::result: return ": as many bytes as the result says";
    case By::argument: return ": " + std::string(call.arguments[shape.count.number - 1].name) + unit;
  }
  return "";
}

/// What it is; of one that depends on others on which.
std::string shape_words(const ArgumentShape& shape, const abi::CallShape& call) {
  if (shape.kind != ArgumentShape::Kind::depends) return shape.words() + count_words(shape, call);
  std::string text = "depends on ";
  if (shape.within != 0) text += std::string(call.arguments[shape.within - 1U].name) + " and ";
  return text + std::string(call.arguments[shape.by - 1U].name) + count_words(shape, call);
}

ExplainedCallForm form_of(const abi::SystemCall& call, Mode mode) {
  const arch::Machine& machine = arch::machine_of(mode);
  ExplainedCallForm form;
  form.mode = mode;
  form.number = call.number;
  form.number_register = register_name(machine.result, mode);
  form.instruction = mode == Mode::bits64 ? "syscall" : "int 0x80";
  const abi::CallShape* shape = abi::call_shape(call.name, machine.calls);
  if (shape == nullptr) return form;
  for (std::size_t i = 0; i < shape->arguments.size(); ++i) {
    const ArgumentShape& one = shape->arguments[i];
    form.arguments.push_back(
        {std::string(one.name), register_name(machine.call_arguments[i], mode), shape_words(one, *shape)});
  }
  using Kind = ArgumentShape::Kind;
  std::string result = shape->result.words();
  if (shape->result.kind == Kind::none) result = "0";
  if (shape->result.kind != Kind::never) result += "; -4095 to -1: an error's number, negative";
  form.result = {"", form.number_register, result};
  return form;
}

std::vector<ExplainedConstant> members_of(std::string_view name) {
  std::vector<ExplainedConstant> result;
  const abi::ConstantGroup* group = abi::constant_group(name);
  if (group == nullptr) return result;
  for (const abi::GroupMember& one : group->members) result.push_back({one.name, one.value});
  std::ranges::stable_sort(result, {}, &ExplainedConstant::value);
  return result;
}

std::optional<ExplainedStructure> structure_of(const ArgumentShape& argument, abi::KernelTypes& known) {
  const auto id = known.named(argument.of);
  if (!id) return std::nullopt;
  debuginfo::Types& types = known.types();
  const debuginfo::Type& type = types[types.plain(*id)];
  ExplainedStructure result{std::string(argument.name), std::string(argument.of), types.size(*id), {}};
  for (const debuginfo::Member& member : type.members)
    result.fields.push_back({member.offset, types.size(member.type), types.declaration(member.type, member.name)});
  return result;
}

void add_details(ExplainedCall& call, const abi::CallShape& shape, CallTable table) {
  abi::KernelTypes types(table);
  for (const ArgumentShape& one : shape.arguments) {
    using Kind = ArgumentShape::Kind;
    if (one.kind == Kind::flags || one.kind == Kind::one) {
      ExplainedGroup group{std::string(one.name), one.kind == Kind::flags, members_of(one.of)};
      if (!group.constants.empty()) call.groups.push_back(std::move(group));
    }
    if (one.kind != Kind::structure) continue;
    const auto known = std::ranges::find(call.structures, one.of, &ExplainedStructure::name);
    if (known != call.structures.end()) {
      known->argument += ", " + std::string(one.name);
    } else if (auto structure = structure_of(one, types)) {
      call.structures.push_back(std::move(*structure));
    }
  }
  for (const std::string_view error : abi::errors_of(shape))
    call.errors.emplace_back(error, abi::error_meaning(abi::error_named(error).value_or(0)));
}

std::string lower(std::string_view text) {
  std::string result(text);
  std::ranges::transform(result, result.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return result;
}

std::string upper(std::string_view text) {
  std::string result(text);
  std::ranges::transform(result, result.begin(), [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
  return result;
}

/// A number with or without a sign.
std::optional<std::int64_t> signed_number(std::string_view word) {
  const bool negative = word.starts_with('-');
  const auto number = number_in(negative ? word.substr(1) : word);
  if (!number) return std::nullopt;
  const auto value = static_cast<std::int64_t>(*number);
  return negative ? -value : value;
}

/// "socket: domain" for each call whose argument takes a constant.
std::vector<std::string> takers_of(std::string_view constant) {
  std::vector<std::string> result;
  for (const CallTable table : {CallTable::x86_64, CallTable::i386}) {
    for (const abi::SystemCall& call : abi::system_calls(table)) {
      const abi::CallShape* shape = abi::call_shape(call.name, table);
      if (shape == nullptr) continue;
      for (const ArgumentShape& one : shape->arguments) {
        const abi::ConstantGroup* group = one.of.empty() ? nullptr : abi::constant_group(one.of);
        if (group == nullptr ||
            std::ranges::find(group->members, constant, &abi::GroupMember::name) == group->members.end())
          continue;
        std::string text = std::string(call.name) + " (" + std::string(one.name) + ")";
        if (std::ranges::find(result, text) == result.end()) result.push_back(std::move(text));
      }
    }
  }
  return result;
}

/// "O_WRONLY|O_CREAT": the bits of all of them; nothing where one of them is unknown.
std::optional<ExplainedConstants> sum_of(std::string_view word) {
  ExplainedConstants result{std::string(word), {}};
  std::int64_t sum = 0;
  std::string_view rest = word;
  while (true) {
    const std::size_t end = std::min(rest.find('|'), rest.size());
    std::string_view name = rest.substr(0, end);
    while (name.starts_with(' ')) name.remove_prefix(1);
    while (name.ends_with(' ')) name.remove_suffix(1);
    const abi::Constant* one = abi::constant(name);
    if (one == nullptr) return std::nullopt;
    sum |= one->value;
    result.found.push_back({{one->name, one->value}, takers_of(one->name)});
    if (end == rest.size()) break;
    rest.remove_prefix(end + 1);
  }
  if (result.found.size() > 1) result.found.insert(result.found.begin(), ExplainedConstants::One{{"", sum}, {}});
  return result;
}

}  // namespace

std::optional<ExplainedCall> explain_call(std::string_view word, Mode mode) {
  const CallTable table = abi::call_table(mode), beside = abi::call_table(other(mode));
  const auto number = number_in(word);
  const std::string name = lower(word);
  const abi::SystemCall* first =
      number ? abi::system_call(*number, table) : abi::system_call(std::string_view(name), table);
  const abi::SystemCall* second = first != nullptr
                                      ? abi::system_call(first->name, beside)
                                      : (number ? nullptr : abi::system_call(std::string_view(name), beside));
  if (first == nullptr && second == nullptr) return std::nullopt;
  ExplainedCall result;
  result.name = first != nullptr ? first->name : second->name;
  if (first != nullptr) result.forms.push_back(form_of(*first, mode));
  if (second != nullptr) result.forms.push_back(form_of(*second, other(mode)));
  const CallTable shown = first != nullptr ? table : beside;
  const CallTable hidden = first != nullptr ? beside : table;
  if (const abi::CallShape* shape = abi::call_shape(result.name, shown)) add_details(result, *shape, shown);
  const abi::SystemCall* same = abi::system_call(result.forms.front().number, hidden);
  if (same != nullptr && same->name != result.name) result.same_number = same->name;
  return result;
}

std::optional<ExplainedError> explain_error(std::string_view word) {
  std::optional<int> error = abi::error_named(upper(word));
  if (const auto number = signed_number(word)) {
    // A result as a register holds it: of 64 bits, or of 32 with zeroes above.
    std::int64_t value = *number;
    if (value > 0xfffff000 && value <= 0xffffffff) value = signed_of(static_cast<std::uint64_t>(value), 32);
    if (value < 0 && value >= -4095) value = -value;
    if (value > 0 && value <= 4095) error = static_cast<int>(value);
  }
  if (!error || abi::error_name(*error).empty()) return std::nullopt;
  const std::string name = abi::error_name(*error);
  return ExplainedError{*error, name, abi::error_meaning(*error), std::string(abi::usual_cause(name))};
}

std::optional<ExplainedSignal> explain_signal(std::string_view word) {
  const auto signal = abi::signal_named(upper(word));
  if (!signal) return std::nullopt;
  const abi::SignalFacts facts = abi::signal_facts(*signal);
  const char* meaning = ::sigdescr_np(*signal);
  return ExplainedSignal{*signal, abi::signal_name(*signal), meaning != nullptr ? meaning : "real-time signal",
                         std::string(facts.action), std::string(facts.cause)};
}

std::optional<ExplainedConstants> explain_constant(std::string_view word) {
  const auto number = signed_number(word);
  if (!number) {
    auto found = sum_of(word);
    return found ? found : sum_of(upper(word));
  }
  ExplainedConstants result{std::string(word), {}};
  for (const abi::Constant& one : abi::constants()) {
    if (one.value != *number) continue;
    if (auto takers = takers_of(one.name); !takers.empty())
      result.found.push_back({{one.name, one.value}, std::move(takers)});
  }
  if (result.found.empty()) return std::nullopt;
  return result;
}

std::vector<std::string> system_names(std::string_view kind) {
  std::vector<std::string> names;
  if (kind.empty() || kind == "syscall") {
    for (const CallTable table : {CallTable::x86_64, CallTable::i386}) {
      for (const abi::SystemCall& call : abi::system_calls(table)) names.emplace_back(call.name);
    }
  }
  if (kind.empty() || kind == "error") {
    for (const int error : abi::errors()) names.push_back(abi::error_name(error));
  }
  if (kind.empty() || kind == "signal") {
    for (int signal = 1; signal <= SIGSYS; ++signal) names.push_back(abi::signal_name(signal));
  }
  if (kind.empty() || kind == "constant") {
    for (const abi::Constant& one : abi::constants()) names.emplace_back(one.name);
  }
  return names;
}

}  // namespace deeptrace::study
