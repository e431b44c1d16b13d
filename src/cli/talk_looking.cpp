// The words that look: registers, memory, frames, threads, code.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "abi/system_calls.h"
#include "base/number.h"
#include "base/path.h"
#include "cli/talk.h"
#include "cli/talk_text.h"
#include "isa/text.h"
#include "look/places.h"
#include "look/rows.h"
#include "look/stack_words.h"
#include "report/card.h"
#include "report/changes.h"
#include "report/frames.h"
#include "report/names.h"
#include "report/source_words.h"
#include "report/stack.h"
#include "report/value.h"
#include "state/parts.h"

namespace deeptrace::cli {

using report::both_readings;
using report::look;
using report::printable;
using report::Role;
using state::Reg;

Answer Talk::regs(Arguments rest) {
  const auto since = take_clause(rest, "since");
  state::RegisterSet before = subject_->moved().before;
  if (since) {
    const auto mark = marks_.find(std::string(*since));
    if (mark == marks_.end()) return fail(fmt::format("{}: no mark of that name", *since));
    before = mark->second.registers;
  }
  if (rest == "all") return all_registers();
  if (rest.find_first_of(" ,") != std::string_view::npos) return several_registers(rest);
  if (!rest.empty()) {
    // One register with its parts side by side.
    const auto part = state::part_named(rest, subject_->view().mode());
    if (!part || part->file != isa::RegisterFile::general) return show(rest);
    Answer answer;
    std::string text;
    for (const std::uint16_t width : {std::uint16_t(64), std::uint16_t(32), std::uint16_t(16), std::uint16_t(8)}) {
      for (const std::uint16_t offset : {std::uint16_t(0), std::uint16_t(8)}) {
        if (offset == 8 && (width != 8 || part->index >= 4)) continue;
        const isa::RegisterPart one{part->file, part->index, offset, width};
        look::Scope here = scope();
        const auto bytes = state::bytes_of(here.view(), one);
        if (!bytes || (width == 64 && here.view().mode() == isa::Mode::bits32)) continue;
        std::uint64_t value = 0;
        std::memcpy(&value, bytes->data(), bytes->size());
        text = fmt::format("  {:<5} {:#0{}x}  signed {}  unsigned {}", isa::name_of(one), value, width / 4 + 2,
                           static_cast<std::int64_t>(value << (64 - width)) >> (64 - width), value);
        if (width == 8 && value >= 0x20 && value < 0x7f) text += fmt::format("  '{}'", static_cast<char>(value));
        answer.lines.push_back(text);
      }
    }
    return answer;
  }
  Answer answer;
  look::Scope here = scope();
  for (const look::RegisterRow& row : look::register_rows(subject_->modules(), here.view(), before)) {
    const unsigned bytes = arch::machine_of(here.view().mode()).word;
    if (!row.known) {
      answer.lines.push_back(fmt::format("    {:<5} unknown: {}", row.name, here.view().why_unknown()));
      continue;
    }
    const bool changed = row.before && frame_ == 0;
    std::string text = fmt::format("{:<5} {:#0{}x}", row.name, row.value, bytes * 2 + 2);
    if (row.address.known()) {
      text += report::address_words(style_, row.address);
    } else {
      text += fmt::format(" {} {}", style_.utf8 ? "\u00b7" : "/",
                          bytes == 8 ? static_cast<std::int64_t>(row.value) : static_cast<std::int32_t>(row.value));
    }
    if (changed) text += "   was " + report::old_reading_of(style_, row, bytes);
    answer.lines.push_back("  " +
                           report::look(style_, changed ? Role::changed : Role::plain, (changed ? "~ " : "  ") + text));
  }
  const std::uint64_t flags = here.view().registers()[Reg::rflags];
  const bool changed = ((flags ^ before[Reg::rflags]) & 0xcd5) != 0 && frame_ == 0;
  const std::string names = isa::flag_names(flags & 0xdd5);
  answer.lines.push_back(
      "  " + report::look(style_, changed ? Role::changed : Role::plain,
                          fmt::format("{}flags {}", changed ? "~ " : "  ", names.empty() ? "none" : names)));
  return answer;
}

Answer Talk::several_registers(Arguments rest) {
  Answer answer;
  while (!rest.empty()) {
    const std::size_t end = std::min(rest.find_first_of(" ,"), rest.size());
    if (end != 0) {
      Answer one = show(rest.substr(0, end));
      if (one.failed) return one;
      for (std::string& line : one.lines) answer.lines.push_back("  " + line);
    }
    rest.remove_prefix(std::min(end + 1, rest.size()));
  }
  return answer;
}

Answer Talk::all_registers() {
  Answer answer = regs({});
  const state::StateView& view = subject_->view();
  const state::RegisterSet& r = view.registers();
  answer.lines.push_back(fmt::format(
      "    cs {:#x}  ss {:#x}  ds {:#x}  es {:#x}  fs {:#x}  gs {:#x}  fs_base {:#x}  gs_base {:#x}", r[Reg::cs],
      r[Reg::ss], r[Reg::ds], r[Reg::es], r[Reg::fs], r[Reg::gs], r[Reg::fs_base], r[Reg::gs_base]));
  const auto set = view.extended();
  if (!set) return answer;
  for (unsigned i = 0; i < 8; ++i) {
    inspect::Value value = inspect::value_of(inspect::Shape{inspect::Shape::Kind::floating, 10}, set->x87[i], 0, {});
    answer.lines.push_back(fmt::format("    st({}) {}", i, (set->x87_used >> i & 1) != 0 ? value.text : "empty"));
  }
  answer.lines.push_back(
      fmt::format("    fcw {:#x}  fsw {:#x}  mxcsr {:#x}", set->x87_control, set->x87_status, set->mxcsr));
  const auto& before = subject_->moved().extended_before;
  for (unsigned i = 0; i < set->vector_count; ++i) {
    unsigned bytes = set->vector_bits / 8;
    const auto& all = set->vectors[i];
    while (bytes > 16 &&
           std::all_of(all.begin() + bytes / 2, all.begin() + bytes, [](std::uint8_t b) { return b == 0; }))
      bytes /= 2;
    if (i >= 16 && std::ranges::all_of(all, [](std::uint8_t b) { return b == 0; })) continue;
    std::string text;
    for (unsigned b = 0; b < bytes; b += 4) {
      std::uint32_t word = 0;
      std::memcpy(&word, all.data() + b, 4);
      text += fmt::format(" {:08x}", word);
    }
    const bool changed = before && before->vectors[i] != all;
    answer.lines.push_back("  " + report::look(style_, changed ? Role::changed : Role::plain,
                                               fmt::format("{}{}mm{:<3}{}", changed ? "~ " : "  ",
                                                           bytes > 32   ? "z"
                                                           : bytes > 16 ? "y"
                                                                        : "x",
                                                           i, text)));
  }
  for (unsigned i = 0; set->has_masks && i < 8; ++i)
    if (set->masks[i] != 0) answer.lines.push_back(fmt::format("    k{} {:#x}", i, set->masks[i]));
  return answer;
}

Answer Talk::flags(Arguments /*rest*/) {
  struct Flag {
    unsigned bit;
    const char *name, *set, *clear;
  };
  constexpr Flag kFlags[] = {
      {0, "CF", "carry or borrow out of the top bit", "no carry or borrow"},
      {2, "PF", "the low byte has an even number of 1 bits", "the low byte has an odd number of 1 bits"},
      {4, "AF", "carry out of bit 3", "no carry out of bit 3"},
      {6, "ZF", "the result was 0", "the result was not 0"},
      {7, "SF", "the result was negative", "the result was not negative"},
      {10, "DF", "string instructions go down", "string instructions go up"},
      {11, "OF", "the signed result did not fit", "the signed result fits"}};
  Answer answer;
  const std::uint64_t now = subject_->view().registers()[Reg::rflags], before = subject_->moved().before[Reg::rflags];
  for (const Flag& flag : kFlags) {
    const bool set = (now >> flag.bit & 1) != 0, changed = ((now ^ before) >> flag.bit & 1) != 0;
    const std::string text =
        fmt::format("{}{} {}  {}", changed ? "~ " : "  ", flag.name, set ? 1 : 0, set ? flag.set : flag.clear);
    answer.lines.push_back("  " + report::look(style_, changed ? Role::changed : Role::plain, text));
  }
  answer.lines.push_back(
      fmt::format("    rflags {:#x}; `explain flags {:#x}` of the command line says which conditions hold", now, now));
  return answer;
}

namespace {

/// "i16" or "i16 4": a shape and how many of it; nothing for other words.
struct AskedShape {
  inspect::Shape shape;
  std::optional<std::uint64_t> count;
};
std::optional<AskedShape> asked_shape(std::string_view text, unsigned word) {
  const std::size_t blank = std::min(text.find(' '), text.size());
  const auto shape = inspect::shape_named(text.substr(0, blank), word);
  if (!shape) return std::nullopt;
  AskedShape result{*shape, std::nullopt};
  if (blank == text.size()) return result;
  result.count = number_in(trimmed(text.substr(blank)));
  constexpr std::uint64_t kMost = 1 << 16;
  if (!result.count || *result.count == 0 || *result.count > kMost) return std::nullopt;
  return result;
}

/// Sees what lies in memory or in a register as a shape, whatever its type.
void see_as(inspect::Datum& datum, const AskedShape& asked, std::uint64_t size) {
  datum.type = {};
  datum.from_code = false;
  datum.bit_size = 0;
  datum.shape = asked.shape;
  const std::uint64_t fitting = asked.shape.kind == inspect::Shape::Kind::string ? 1 : size / asked.shape.size;
  datum.count = asked.count.value_or(std::max<std::uint64_t>(1, fitting));
  datum.many = datum.count > 1;
  if (datum.place == inspect::Datum::Place::memory) {
    datum.loaded = false;
    datum.bytes.clear();
  } else {
    datum.bytes.resize(asked.shape.size * datum.count);
  }
}

}  // namespace

Answer Talk::show(Arguments rest) {
  if (rest.empty()) return fail("show: an expression is needed, such as log->count or rax");
  look::Scope here = scope();
  const auto as = take_clause(rest, "as");
  const auto asked = as ? asked_shape(*as, arch::machine_of(here.view().mode()).word) : std::nullopt;
  if (as && !asked)
    return fail(fmt::format("show: as is followed by a shape and perhaps how many, such as i16 4 (shapes: {})",
                            inspect::shape_names()));
  const Result<inspect::Expression> expression = parse(rest, here);
  if (!expression) return fail(expression.error().message);
  Answer answer;
  const auto add = [&](const std::string& name, Result<inspect::Datum> datum) {
    if (!datum) {
      answer = fail(datum.error().message);
      return;
    }
    if (asked) see_as(*datum, *asked, inspect::size_of(*datum, here));
    const inspect::Value value = inspect::value_of(*datum, here);
    std::string text = fmt::format("{} = {}", printable(name), report::value_head(style_, value));
    if (!value.type.empty()) text += "   " + report::look(style_, Role::faint, report::shown_type(style_, value.type));
    if (value.from_code) text += "   " + report::look(style_, Role::faint, report::inferred_words(value));
    if (datum->place == inspect::Datum::Place::memory)
      text += report::look(style_, Role::faint, fmt::format("   at {:#x}", datum->address));
    if (datum->place == inspect::Datum::Place::reg && isa::name_of(datum->part) != name)
      text += report::look(style_, Role::faint, fmt::format("   in {}", isa::name_of(datum->part)));
    answer.lines.push_back(std::move(text));
    for (std::string& line : report::value_lines(style_, value, 4)) answer.lines.push_back(std::move(line));
  };
  // A bare name may be both.
  const bool both = state::part_named(rest, here.view().mode()) && here.has_variable(rest);
  if (both) {
    for (const std::string prefix : {"reg:", "var:"}) {
      const Result<inspect::Expression> one = parse(prefix + std::string(rest), here);
      add(prefix + std::string(rest), one->evaluate(here, false));
    }
    return answer;
  }
  add(std::string(rest), expression->evaluate(here, false));
  if (answer.failed) answer.lines.back() += elsewhere(*expression);
  return answer;
}

/// A name that is a local variable of another frame: where to look for it.
std::string Talk::elsewhere(const inspect::Expression& expression) {
  if (!has_program()) return {};
  const std::size_t most = std::min<std::size_t>(frames().size(), 64);
  look::Scope here = scope();
  for (const std::string& name : expression.names()) {
    if (here.has_variable(name)) continue;
    for (std::size_t number = 0; number < most; ++number) {
      look::Scope there(subject_->modules(), subject_->view(), frames()[number]);
      if (there.is_local(name)) return fmt::format("; frame {} has one: `in frame {}`", number, number);
    }
  }
  return {};
}

Answer Talk::memory(Arguments rest) {
  const std::string asked(rest);
  const auto since = take_clause(rest, "since");
  const auto as = take_clause(rest, "as");
  if (rest.empty()) return fail("memory: an address or variable is needed, such as rsp or log");
  look::Scope here = scope();
  const Result<inspect::Expression> expression = parse(rest, here);
  if (!expression) return fail(expression.error().message);
  Result<inspect::Datum> datum = expression->evaluate(here, false);
  if (!datum) return fail(datum.error().message);
  std::uint64_t address = 0, size = 64;
  if (datum->place == inspect::Datum::Place::memory) {
    address = datum->address;
    size = inspect::size_of(*datum, here);
    if (size == 0) size = 64;
  } else {
    const Result<std::uint64_t> number = inspect::number_of(*datum, here);
    if (!number) return fail(number.error().message);
    address = *number;
  }
  const unsigned word = arch::machine_of(here.view().mode()).word;
  const bool by_name = as && (*as == "bits" || *as == "fields");
  const auto form = as && !by_name ? asked_shape(*as, word) : std::nullopt;
  const std::optional<inspect::Shape> shape = form ? std::optional(form->shape) : std::nullopt;
  if (as && !shape && !by_name && *as != "code")
    return fail(fmt::format("{}: no such shape (one of {}, code, bits, fields)", *as, inspect::shape_names()));
  constexpr std::uint64_t kMost = 1 << 16;
  if (form && form->count) size = *form->count * std::max(1U, shape->size);
  size = std::min(size, kMost);
  if (as && *as == "code") {
    Answer answer;
    const auto lines = look::code_around(subject_->modules(), subject_->view(), address, 0, 16, subject_->stop_names());
    answer.lines = report::code_lines(style_, lines);
    return answer;
  }
  std::vector<std::uint8_t> now(size);
  const std::size_t got = here.view().read_memory(address, now);
  if (got == 0) return fail(fmt::format("memory at {:#x} {}", address, here.view().why_unreadable(address)));
  now.resize(got);
  std::vector<std::uint8_t> before;
  const std::string key = fmt::format("{:#x} {}", address, size);
  if (since) {
    const auto mark = marks_.find(std::string(*since));
    if (mark == marks_.end()) return fail(fmt::format("{}: no mark of that name", *since));
    before = now;
    for (const auto& [start, bytes] : mark->second.memory) {
      for (std::size_t i = 0; i < before.size(); ++i) {
        if (address + i >= start && address + i - start < bytes.size()) before[i] = bytes[address + i - start];
      }
    }
  } else if (const auto seen = seen_.find(key); seen != seen_.end()) {
    before = seen->second;
  }
  seen_[key] = now;
  const auto changed = [&](std::size_t at, std::size_t count) {
    for (std::size_t i = at; i < at + count && i < now.size(); ++i) {
      if (i < before.size() && before[i] != now[i]) return true;
    }
    return false;
  };
  Answer answer;
  const auto fields = [&] {
    const auto value_from = [&](const std::vector<std::uint8_t>& bytes) {
      inspect::Datum copy = *datum;
      copy.bytes = bytes;
      copy.loaded = true;
      return inspect::value_of(copy, here, {.as_members = true});
    };
    const inspect::Value value = value_from(now);
    const std::optional<inspect::Value> old =
        before.size() == now.size() ? std::optional(value_from(before)) : std::nullopt;
    for (std::string& line : report::field_lines(style_, value, old ? &*old : nullptr))
      answer.lines.push_back(std::move(line));
  };
  if (as && *as == "bits") {
    for (std::size_t i = 0; i < now.size(); ++i) {
      std::string text = fmt::format("  {:#x}  {:08b}  {:#04x}", address + i, now[i], now[i]);
      if (changed(i, 1))
        text = report::look(style_, Role::changed, "~" + text.substr(1) + fmt::format("   was {:08b}", before[i]));
      answer.lines.push_back(text);
    }
    if (datum->type) fields();
    return answer;
  }
  if (as && *as == "fields") {
    if (!datum->type) return fail(fmt::format("{}: its type is not known, so it has no fields", rest));
    fields();
    return answer;
  }
  if (shape && shape->kind == inspect::Shape::Kind::string) {
    const auto end = std::ranges::find(now, std::uint8_t(0));
    answer.lines.push_back(fmt::format("  {:#x}  \"{}\"", address, report::escaped(std::string(now.begin(), end))));
    return answer;
  }
  const std::size_t unit = shape && shape->kind != inspect::Shape::Kind::bytes ? shape->size : 1;
  const std::size_t row = unit == 1 ? 16 : unit == 2 ? 16 : unit == 4 ? 16 : unit;
  std::vector<std::uint8_t> in_memory(now.size());
  state::MemoryRequest raw{address, in_memory, 0};
  here.view().read_memory({&raw, 1}, state::Provenance::as_in_memory);
  std::vector<std::string> names;
  std::size_t widest = 0;
  for (std::size_t at = 0; at < now.size(); at += row) {
    std::string name = look::memory_name(subject_->modules(), address + at, unit);
    if (name.empty()) name = here.name_of_memory(address + at, unit);
    widest = std::max(widest, name.size());
    names.push_back(printable(name));
  }
  for (std::size_t at = 0; at < now.size(); at += row) {
    std::string text = fmt::format("{:#x} ", address + at), letters;
    if (widest != 0) text += fmt::format(" {:<{}} ", names[at / row], widest);
    bool any = false, stop = false;
    for (std::size_t i = at; i < std::min(at + row, now.size()); i += unit) {
      if (i + unit > now.size()) break;
      const bool differs = changed(i, unit);
      any |= differs;
      stop |= std::memcmp(now.data() + i, in_memory.data() + i, unit) != 0;
      std::string cell;
      if (unit == 1 && (!shape || shape->kind == inspect::Shape::Kind::bytes)) {
        cell = fmt::format("{:02x}", now[i]);
      } else {
        const inspect::Value value =
            inspect::value_of(*shape, Bytes(now).subspan(i, unit), address + i, here.pointers());
        cell = report::value_words(style_, value);
        if (unit >= 8 && shape->kind != inspect::Shape::Kind::pointer &&
            shape->kind != inspect::Shape::Kind::floating) {
          const look::AddressName name =
              look::address_name(subject_->modules(), here.view(), value.number, here.view().registers()[Reg::rsp]);
          if (name.known()) cell = report::reading_of(style_, value.number, 8, name);
        }
        if (unit <= 4) cell = fmt::format("{:<20}", cell);
      }
      text += " " + report::look(style_, differs ? Role::changed : Role::plain, cell);
      letters += now[i] >= 0x20 && now[i] < 0x7f ? static_cast<char>(now[i]) : '.';
    }
    if (unit == 1 && (!shape || shape->kind == inspect::Shape::Kind::bytes)) {
      const std::size_t missing = row - std::min(row, now.size() - at);
      text += std::string(missing * 3, ' ') + "  " + letters;
    }
    answer.lines.push_back((any ? report::look(style_, Role::changed, "~ ") : "  ") + text);
    if (stop) {
      answer.lines.push_back(report::look(style_, Role::attention,
                                          "note: a stop byte lies over these; shown are the program's own bytes, the "
                                          "program itself would read cc there"));
    }
  }
  if (got < size)
    answer.lines.push_back(report::look(
        style_, Role::attention,
        fmt::format("note: memory from {:#x} on {}", address + got, here.view().why_unreadable(address + got))));
  return answer;
}

Answer Talk::find(Arguments rest) {
  const auto range = take_clause(rest, "in");
  if (!range || rest.empty()) return fail("find: is written as find VALUE in FROM..TO, or in a module's name");
  look::Scope here = scope();
  std::uint64_t from = 0, to = 0;
  const std::size_t dots = range->find("..");
  if (dots != std::string_view::npos) {
    for (int i = 0; i < 2; ++i) {
      const auto expression = parse(i == 0 ? range->substr(0, dots) : range->substr(dots + 2), here);
      if (!expression) return fail(expression.error().message);
      auto datum = expression->evaluate(here);
      if (!datum) return fail(datum.error().message);
      const auto number = inspect::number_of(*datum, here);
      if (!number) return fail(number.error().message);
      (i == 0 ? from : to) = *number;
    }
  } else {
    for (const state::Mapping& mapping : subject_->target().mappings()) {
      if (base_name(mapping.path) != *range && mapping.path != *range) continue;
      if (from == 0) from = mapping.from;
      to = mapping.to;
    }
  }
  constexpr std::uint64_t kMost = std::uint64_t(1) << 30;
  if (from >= to || to - from > kMost) return fail(fmt::format("{}: no such range or module", *range));
  const auto expression = parse(rest, here);
  if (!expression) return fail(expression.error().message);
  auto datum = expression->evaluate(here);
  if (!datum) return fail(datum.error().message);
  if (auto error = inspect::load(*datum, here)) return fail(error->message);
  std::vector<std::uint8_t> wanted = datum->bytes;
  if (datum->literal) {
    // As narrow as the number allows.
    const Result<std::uint64_t> number = inspect::number_of(*datum, here);
    const std::size_t size = *number <= 0xff ? 1 : *number <= 0xffff ? 2 : *number <= 0xffffffff ? 4 : 8;
    wanted.resize(size);
  }
  Answer answer;
  std::vector<std::uint8_t> piece(1 << 20);
  for (std::uint64_t at = from; at < to && answer.lines.size() < 64; at += piece.size() - 4096) {
    const std::size_t got =
        here.view().read_memory(at, std::span(piece).first(std::min<std::uint64_t>(piece.size(), to - at)));
    auto start = piece.begin();
    const auto end = piece.begin() + static_cast<std::ptrdiff_t>(got);
    while (answer.lines.size() < 64) {
      const auto found = std::search(start, end, wanted.begin(), wanted.end());
      if (found == end || static_cast<std::size_t>(found - piece.begin()) >= piece.size() - 4096) break;
      const std::uint64_t address = at + static_cast<std::uint64_t>(found - piece.begin());
      answer.lines.push_back(
          fmt::format("  {:#x}  {}", address,
                      report::address_words(style_, look::address_name(subject_->modules(), here.view(), address,
                                                                       here.view().registers()[Reg::rsp]))));
      start = found + 1;
    }
  }
  if (answer.lines.empty()) answer.lines.push_back("nowhere in that range");
  if (answer.lines.size() == 64) answer.lines.push_back("  and perhaps more");
  return answer;
}

Answer Talk::stack(Arguments rest) {
  const auto count = rest.empty() ? std::optional<std::uint64_t>(24) : number_in(rest);
  if (!count || *count == 0 || *count > 100000) return fail("stack: a number of words");
  Answer answer;
  look::Modules& modules = subject_->modules();
  const state::Delta& changed = subject_->moved().written;
  const auto words = look::stack_words(modules, subject_->view(), frames(), *count, &changed);
  answer.lines = report::stack_lines(style_, words, arch::machine_of(subject_->view().mode()).word);
  return answer;
}

Answer Talk::frame_list(Arguments /*rest*/) {
  Answer answer;
  const auto rows = look::frame_rows(subject_->modules(), subject_->view(), frames());
  // Start-up code that called the program's own stays out of the way.
  std::size_t shown = rows.size();
  while (shown > 1 && !rows[shown - 1].own) --shown;
  const bool any_own = rows[shown - 1].own;
  if (!any_own) shown = rows.size();
  // The chosen one: of the innermost inlined call, unless another was asked for.
  const auto chosen = std::ranges::find_if(
      rows, [this](const look::FrameRow& row) { return row.frame == frame_ && (!depth_ || row.depth == *depth_); });
  for (const look::FrameRow& row : rows) {
    if (row.number == shown) {
      answer.lines.push_back(
          report::look(style_, Role::faint,
                       fmt::format("     and {} frames of start-up or library code around", rows.size() - shown)));
      break;
    }
    const std::string text = fmt::format("{:>3}  {}", row.number, report::frame_words(style_, row));
    answer.lines.push_back(
        report::look(style_, chosen != rows.end() && &row == &*chosen ? Role::heading : Role::plain, text));
  }
  if (!lost_.empty())
    answer.lines.push_back(report::look(style_, Role::attention, "note: the frames end here: " + printable(lost_)));
  return answer;
}

Answer Talk::threads(Arguments /*rest*/) {
  Answer answer;
  for (const state::ThreadId thread : subject_->target().threads()) {
    std::string text = fmt::format("{} {:>3}  task {}  {}", thread == subject_->thread() ? ">" : " ",
                                   subject_->number_of(thread), thread, printable(subject_->place(thread)));
    if (const auto call = subject_->target().system_call(thread))
      text += "   in system call " + abi::call_name(*call, look::table_of_call(subject_->target().view(thread)));
    answer.lines.push_back(text);
  }
  return answer;
}

Answer Talk::processes(Arguments /*rest*/) {
  Answer answer;
  if (!own_) return answer;
  for (const control::ProcessTree::Member& member : own_->members()) {
    control::Control& control = *member.control;
    std::string text = fmt::format("{} {:>3}  process {}  {}", &control == control_ ? ">" : " ", member.number,
                                   control.process().pid(), printable(control.path()));
    text += control.ended() ? "   ended" : "   " + printable(control.place(control.thread()));
    answer.lines.push_back(std::move(text));
  }
  if (!options_.trace_children)
    answer.lines.push_back("  children of the program are let go; with --children trace they are listed here");
  return answer;
}

Answer Talk::modules(Arguments /*rest*/) {
  Answer answer;
  for (const auto& module : subject_->modules().all()) {
    answer.lines.push_back(fmt::format("  {:#x}..{:#x}  {}{}", module->from, module->to, printable(module->path),
                                       module->program == nullptr         ? ""
                                       : module->program->debug().empty() ? "   no debug information"
                                                                          : "   with debug information"));
  }
  return answer;
}

Answer Talk::type(Arguments rest) {
  look::Scope here = scope();
  const auto found = here.type_named(rest);
  if (!found) return fail(fmt::format("{}: no type of that name is known", rest));
  Answer answer;
  debuginfo::Types& types = *found->types;
  const debuginfo::Type& type = types[types.plain(found->id)];
  answer.lines.push_back(fmt::format("{}   {} bytes", printable(types.name(found->id)), types.size(found->id)));
  for (const debuginfo::Member& member : type.members) {
    std::string text = fmt::format("  {:#06x}", member.offset);
    if (member.bit_size != 0)
      text += fmt::format(" bits {}..{}", member.bit_offset, member.bit_offset + member.bit_size - 1);
    text += "  " + printable(types.declaration(member.type, member.name)) + (member.base ? "(base class)" : "");
    answer.lines.push_back(text);
  }
  for (const debuginfo::Enumerator& one : type.enumerators)
    answer.lines.push_back(fmt::format("  {} = {}", printable(one.name), one.value));
  return answer;
}

Answer Talk::vars(Arguments /*rest*/) {
  Answer answer;
  look::Scope here = scope();
  for (look::Scope::Listed& listed : here.locals()) {
    if (!listed.here) continue;
    std::string text = fmt::format("  {:<9} {:<16} ", listed.parameter ? "parameter" : "", printable(listed.name));
    if (listed.datum) listed.datum = inspect::referred(std::move(*listed.datum), here);
    if (listed.datum) {
      const inspect::Value value = inspect::value_of(*listed.datum, here);
      text += report::value_words(style_, value);
      if (!value.type.empty())
        text += "   " + report::look(style_, Role::faint, report::shown_type(style_, value.type));
      if (value.from_code) text += "   " + report::look(style_, Role::faint, report::inferred_words(value));
    } else {
      text += report::look(style_, Role::faint, printable(listed.datum.error().message));
    }
    answer.lines.push_back(text);
  }
  if (answer.lines.empty()) answer.lines.push_back("no variables are described here");
  return answer;
}

Answer Talk::code(Arguments rest) {
  std::uint64_t address = subject_->view().registers()[Reg::rip];
  std::size_t before = 6, after = 12;
  if (!rest.empty()) {
    const auto found = look::stop_places(
        subject_->modules(), subject_->view(),
        std::string(rest) + (number_in(rest) || rest.find_first_of("+:") != std::string_view::npos ? "" : "+0"));
    if (!found) return fail(found.error().message);
    address = found->places.front().address;
    before = 0;
    after = 24;
    if (const program::Function* function = subject_->modules().function_at(address); function != nullptr) {
      const look::Module* module = subject_->modules().at(address);
      // A whole function, when it was asked for and is short.
      const auto lines =
          look::code_around(subject_->modules(), subject_->view(), address, 0, 400, subject_->stop_names());
      const std::uint64_t end = function->address + function->size + module->bias;
      after = static_cast<std::size_t>(
          std::ranges::count_if(lines, [&](const look::CodeLine& l) { return l.address < end; }));
      after = std::min<std::size_t>(after, 100);
    }
  } else if (frame_ != 0) {
    address = frames()[frame_].address();
  }
  Answer answer;
  std::string file;
  std::uint32_t line = 0;
  for (const look::CodeLine& one :
       look::code_around(subject_->modules(), subject_->view(), address, before, after, subject_->stop_names())) {
    if (one.line != 0 && (one.line != line || one.file != file)) {
      const auto text = sources_.line(one.file, one.line);
      answer.lines.push_back(report::look(
          style_, Role::source,
          fmt::format("{:>7}  {}", one.line, text ? report::printable_source(*text) : base_name(one.file))));
    }
    line = one.line;
    file = one.file;
    for (std::string& text : report::code_lines(style_, {one})) answer.lines.push_back(std::move(text));
  }
  return answer;
}

Answer Talk::why(Arguments /*rest*/) {
  Answer answer;
  const std::string before = look::sentence_at(subject_->view(), subject_->moved().before[Reg::rip]);
  if (!stopped_.at_start && subject_->moved().instructions == 1 && !subject_->moved().ran_through && !before.empty())
    answer.lines.push_back(fmt::format("  last {} ({})", printable(before),
                                       printable(subject_->modules().place_name(subject_->moved().before[Reg::rip]))));
  const look::Card card = look::card_of(*subject_, stopped_);
  for (const auto& call : card.calls) {
    for (std::string& line : report::call_lines(style_, *call)) answer.lines.push_back(std::move(line));
  }
  for (std::string& line : report::change_lines(style_, card.changes, card)) answer.lines.push_back(std::move(line));
  for (std::string& line : report::foresight_lines(style_, card.next)) answer.lines.push_back(std::move(line));
  return answer;
}

Answer Talk::in(Arguments rest) {
  const std::string_view what = take_word(rest);
  const auto number = number_in(rest);
  if ((what != "frame" && what != "thread" && what != "process") || !number)
    return fail("in: is written as in frame N, in thread N or in process N");
  if (what != "frame") {
    if (what == "thread" && !subject_->choose_thread(*number))
      return fail(fmt::format("{}: no such thread; `threads` lists them", *number));
    if (what == "process" && (!own_ || !own_->choose(*number)))
      return fail(fmt::format("{}: no such process; `processes` lists them", *number));
    if (own_) look_at(own_->current());
    choose_frame(0, std::nullopt);
    frames_known_ = false;
    stopped_ = {};
    stopped_.at_start = true;  // nothing is known of the way there
    update_followed();
    Answer answer;
    answer.lines = report::card_lines(style_, look::card_of(*subject_, stopped_), sources_, followed_);
    return answer;
  }
  // Numbers count inlined calls too, as `frames` lists them.
  const auto rows = look::frame_rows(subject_->modules(), subject_->view(), frames());
  if (*number >= rows.size()) return fail(fmt::format("frame {}: there are {} frames, from 0", *number, rows.size()));
  const look::FrameRow& row = rows[*number];
  choose_frame(row.frame, row.depth, row.number);
  Answer answer;
  answer.lines.push_back(
      fmt::format("frame {}: {}{}", *number, report::shown_place(style_, row.place, row.inlined),
                  row.line != 0 ? fmt::format("   {}:{}", printable(base_name(row.file)), row.line) : ""));
  if (const auto text = sources_.line(row.file, row.line); text && row.line != 0)
    answer.lines.push_back(
        report::look(style_, Role::source, fmt::format("{:>7}  {}", row.line, report::printable_source(*text))));
  return answer;
}

}  // namespace deeptrace::cli
