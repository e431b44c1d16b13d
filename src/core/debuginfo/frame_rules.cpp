#include "debuginfo/frame_rules.h"

#include <algorithm>

#include "debuginfo/constants.h"

namespace deeptrace::debuginfo {
namespace {

/// Carries out the instructions of a frame table up to an address.
class FrameMachine {
 public:
  FrameMachine(const UnwindEntry& entry, unsigned pointer_size, std::uint64_t address)
      : entry_(entry), pointer_size_(pointer_size), address_(address) {
    rule_.function = entry.range;
    rule_.signal_frame = entry.signal_frame;
    rule_.return_register = entry.return_register;
  }

  std::optional<FrameRule> run() {
    at_ = entry_.range.from;
    if (!go_over(entry_.initial)) return std::nullopt;
    initial_ = rule_;
    at_ = entry_.range.from;
    if (!go_over(entry_.program)) return std::nullopt;
    return rule_;
  }

 private:
  bool go_over(Bytes program) {
    ByteReader reader(program);
    while (!reader.at_end()) {
      const std::uint8_t byte = reader.u8();
      const auto high = static_cast<FrameOp>(byte & 0xc0);
      const unsigned low = byte & 0x3f;
      const bool known = (byte & 0xc0) != 0 ? short_form(high, low, reader) : long_form(FrameOp(low), reader);
      if (!known || !reader.good()) return false;
      if (at_ > address_) return true;
    }
    return true;
  }

  RegisterRule& rule(std::uint64_t number) { return number < FrameRule::kRegisters ? rule_.registers[number] : other_; }
  void set(std::uint64_t number, RegisterRule::Kind kind, std::int64_t offset = 0) {
    rule(number) = {kind, offset, 0, {}};
  }
  [[nodiscard]] std::int64_t factored(std::int64_t offset) const {
    return static_cast<std::int64_t>(static_cast<std::uint64_t>(offset) *
                                     static_cast<std::uint64_t>(entry_.data_alignment));
  }
  std::int64_t factored_unsigned(ByteReader& reader) { return factored(static_cast<std::int64_t>(reader.uleb())); }
  void restore(std::uint64_t number) {
    if (number < FrameRule::kRegisters) rule_.registers[number] = initial_.registers[number];
  }
  /// What follows an advance holds after it only; the caller stops there.
  void advance(std::uint64_t units) { at_ += units * entry_.code_alignment; }

  bool short_form(FrameOp op, unsigned low, ByteReader& reader) {
    switch (op) {
      case FrameOp::advance: advance(low); return true;
      case FrameOp::offset: set(low, RegisterRule::Kind::at_offset, factored_unsigned(reader)); return true;
      default: restore(low); return true;
    }
  }

  bool long_form(FrameOp op, ByteReader& reader) {
    using Kind = RegisterRule::Kind;
    switch (op) {
      case FrameOp::nothing: return true;
      case FrameOp::set_location: at_ = reader.unsigned_of(pointer_size_); return entry_.pointer_encoding == 0;
      case FrameOp::advance1: advance(reader.u8()); return true;
      case FrameOp::advance2: advance(reader.u16()); return true;
      case FrameOp::advance4: advance(reader.u32()); return true;
      case FrameOp::offset_extended: {
        const std::uint64_t number = reader.uleb();
        set(number, Kind::at_offset, factored_unsigned(reader));
        return true;
      }
      case FrameOp::restore_extended: restore(reader.uleb()); return true;
      case FrameOp::undefined: set(reader.uleb(), Kind::undefined); return true;
      case FrameOp::same_value: set(reader.uleb(), Kind::same); return true;
      case FrameOp::in_register: {
        const std::uint64_t number = reader.uleb();
        rule(number) = {Kind::in_register, 0, static_cast<unsigned>(reader.uleb()), {}};
        return true;
      }
      case FrameOp::remember_state: remembered_.push_back(rule_); return remembered_.size() < 1000;
      case FrameOp::restore_state:
        if (remembered_.empty()) return false;
        rule_ = remembered_.back();
        remembered_.pop_back();
        return true;
      case FrameOp::define_cfa: {
        const auto number = static_cast<unsigned>(reader.uleb());
        return cfa(number, static_cast<std::int64_t>(reader.uleb()));
      }
      case FrameOp::define_cfa_signed: {
        const auto number = static_cast<unsigned>(reader.uleb());
        return cfa(number, factored(reader.sleb()));
      }
      case FrameOp::define_cfa_register: return cfa(static_cast<unsigned>(reader.uleb()), rule_.cfa_offset);
      case FrameOp::define_cfa_offset: return cfa(rule_.cfa_register, static_cast<std::int64_t>(reader.uleb()));
      case FrameOp::define_cfa_offset_signed: return cfa(rule_.cfa_register, factored(reader.sleb()));
      case FrameOp::define_cfa_expression: rule_.cfa_expression = reader.bytes(reader.uleb()); return true;
      case FrameOp::expression:
      case FrameOp::value_expression: {
        const std::uint64_t number = reader.uleb();
        const Kind kind = op == FrameOp::expression ? Kind::expression : Kind::value_expression;
        rule(number) = {kind, 0, 0, reader.bytes(reader.uleb())};
        return true;
      }
      case FrameOp::offset_extended_signed: {
        const std::uint64_t number = reader.uleb();
        set(number, Kind::at_offset, factored(reader.sleb()));
        return true;
      }
      case FrameOp::value_offset: {
        const std::uint64_t number = reader.uleb();
        set(number, Kind::value_offset, factored_unsigned(reader));
        return true;
      }
      case FrameOp::value_offset_signed: {
        const std::uint64_t number = reader.uleb();
        set(number, Kind::value_offset, factored(reader.sleb()));
        return true;
      }
      case FrameOp::gnu_arguments_size: (void)reader.uleb(); return true;
      case FrameOp::gnu_negative_offset_extended: {
        const std::uint64_t number = reader.uleb();
        set(number, Kind::at_offset, -factored_unsigned(reader));
        return true;
      }
      default: return false;
    }
  }

  bool cfa(unsigned number, std::int64_t offset) {
    rule_.cfa_register = number;
    rule_.cfa_offset = offset;
    rule_.cfa_expression = {};
    return true;
  }

  const UnwindEntry& entry_;
  unsigned pointer_size_;
  std::uint64_t address_;
  std::uint64_t at_ = 0;
  FrameRule rule_, initial_;
  RegisterRule other_;
  std::vector<FrameRule> remembered_;
};

}  // namespace

void FrameTable::load() {
  loaded_ = true;
  const unsigned width = elf_.machine().word;
  const auto add = [this](const UnwindEntry& entry) { entries_.push_back(entry); };
  if (const binary::Section* section = elf_.section_named(".eh_frame"))
    each_unwind_entry({elf_.bytes_of(*section), section->address, width, false, {}}, add);
  debug_frame_ = debug_.debug_bytes(".debug_frame");
  each_unwind_entry({debug_frame_.view, 0, width, true, {}}, add);
  std::ranges::stable_sort(entries_, {}, [](const UnwindEntry& entry) { return entry.range.from; });
}

std::optional<FrameRule> FrameTable::at(std::uint64_t address) {
  if (!loaded_) load();
  auto after = std::ranges::upper_bound(entries_, address, {}, [](const UnwindEntry& e) { return e.range.from; });
  while (after != entries_.begin()) {
    const UnwindEntry& entry = *--after;
    if (entry.range.holds(address)) return FrameMachine(entry, elf_.machine().word, address).run();
    if (after == entries_.begin() || (after - 1)->range.from != entry.range.from) break;
  }
  return std::nullopt;
}

}  // namespace deeptrace::debuginfo
