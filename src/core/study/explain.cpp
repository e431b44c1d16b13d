#include "study/explain.h"

#include <algorithm>
#include <cctype>
#include <charconv>
#include <map>
#include <set>
#include <sstream>

#include "base/number.h"
#include "base/similar_names.h"
#include "isa/prefixes.h"
#include "isa/processor.h"

namespace deeptrace::study {
namespace {

using isa::Access;
using isa::Instruction;
using isa::Operand;
using isa::RegisterFile;
using isa::RegisterPart;

std::string signed_hex(std::int64_t value) {
  isa::Text text;
  text.add_signed_hex(value);
  return std::string(text.view());
}

std::string lower(std::string_view word) {
  std::string result(word);
  std::transform(result.begin(), result.end(), result.begin(),
                 [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return result;
}

/// Hexadecimal digits in pairs, with spaces, commas or colons between them or not, "0x" before a pair or not.
std::optional<std::vector<std::uint8_t>> bytes_of(std::string_view text) {
  std::vector<std::uint8_t> bytes;
  while (!text.empty()) {
    if (text.front() == ' ' || text.front() == ',' || text.front() == ':') {
      text.remove_prefix(1);
      continue;
    }
    if (text.starts_with("0x") || text.starts_with("0X")) text.remove_prefix(2);
    std::uint8_t byte = 0;
    const auto [end, error] =
        std::from_chars(text.data(), text.data() + std::min<std::size_t>(2, text.size()), byte, 16);
    if (error != std::errc{} || end != text.data() + 2) return std::nullopt;
    bytes.push_back(byte);
    text.remove_prefix(2);
  }
  if (bytes.empty()) return std::nullopt;
  return bytes;
}

std::string access_words(Access access) {
  switch (access) {
    case Access::none: return "not touched";
    case Access::read: return "read";
    case Access::write: return "written";
    case Access::read_write: return "read and written";
    case Access::may_read: return "read in part";
    case Access::may_write: return "perhaps written";
    case Access::read_may_write: return "read, perhaps written";
  }
  return {};
}

ExplainedDoing doing_of(const isa::Row& row, isa::ControlFlow flow) {
  const isa::FlagUse& flags = isa::operation_of(row).flags;
  ExplainedDoing doing{isa::flag_names(flags.read),    isa::flag_names(flags.written), isa::flag_names(flags.undefined),
                       isa::flag_names(flags.cleared), isa::flag_names(flags.set),     {}};
  const auto say = [&](std::uint32_t trait, std::string_view words) {
    if ((row.traits & trait) != 0) doing.remarks.emplace_back(words);
  };
  switch (flow) {
    case isa::ControlFlow::next: break;
    case isa::ControlFlow::jump: doing.remarks.emplace_back("control goes elsewhere"); break;
    case isa::ControlFlow::conditional: doing.remarks.emplace_back("control may go elsewhere"); break;
    case isa::ControlFlow::call: doing.remarks.emplace_back("a call: control comes back after it"); break;
    case isa::ControlFlow::return_: doing.remarks.emplace_back("a return"); break;
    case isa::ControlFlow::trap: doing.remarks.emplace_back("a trap"); break;
    case isa::ControlFlow::system: doing.remarks.emplace_back("a system call"); break;
  }
  say(isa::kFaults, "may fault by its values, not only by its addresses");
  say(isa::kPrivileged, "faults outside the kernel");
  say(isa::kNondeterministic, "the same state can give different results");
  say(isa::kAligned, "memory must be aligned to its size");
  say(isa::kFloat, "may raise floating-point exceptions, noted in mxcsr");
  say(isa::kX87 | isa::kX87Push | isa::kX87Pop, "may change the floating-point unit's status word");
  say(isa::kVectorState, "writes vector registers that its operands do not name");
  say(isa::kUnknownExtent, "touches memory whose extent the registers do not tell");
  say(isa::kSerializing, "everything before it is finished first");
  return doing;
}

/// What becomes of the part of a register that is not written.
std::string consequence_of(const Operand& operand, const Instruction& instruction) {
  if (operand.kind != Operand::Kind::reg || !isa::writes(operand.access)) return {};
  const RegisterPart part = operand.reg;
  const RegisterPart whole{RegisterFile::general, part.index, 0, 64};
  if (part.file == RegisterFile::general && instruction.mode() == isa::Mode::bits64) {
    if (part.width == 32) return "the upper half of " + std::string(isa::name_of(whole)) + " becomes 0";
    if (part.width < 32) return "the rest of " + std::string(isa::name_of(whole)) + " stays";
  }
  if (part.file == RegisterFile::vector)
    return instruction.is_vector_encoded() ? "the bits above become 0" : "the bits above stay";
  return {};
}

// ---- bytes

class BytesExplainer {
 public:
  BytesExplainer(const Instruction& instruction, std::vector<std::uint8_t> bytes, isa::Syntax syntax)
      : in_(instruction), row_(isa::row_of(instruction)), syntax_(syntax) {
    out_.rest = bytes.size() - in_.length;
    bytes.resize(in_.length);
    out_.bytes = std::move(bytes);
  }

  ExplainedBytes run() {
    out_.text = isa::text_of(in_, 0, syntax_).view();
    out_.sentence = isa::sentence(in_, 0);
    out_.note = isa::note_of(in_);
    out_.feature = isa::feature_of(row_);
    out_.unproved = isa::why_not_provable(row_);
    out_.encoding = isa::encoding_of(row_);
    prefixes();
    opcode();
    modrm();
    numbers();
    for (const Operand& operand : isa::operands_of(in_)) add_operand(operand);
    out_.doing = doing_of(row_, isa::flow_of(in_));
    if (const std::string_view difference = isa::vendor_difference(in_); !difference.empty())
      out_.doing.remarks.emplace_back(difference);
    std::sort(out_.fields.begin(), out_.fields.end(),
              [](const ExplainedField& a, const ExplainedField& b) { return a.at < b.at; });
    return std::move(out_);
  }

 private:
  void add(unsigned at, unsigned size, std::string meaning) {
    if (size == 0) return;
    out_.fields.push_back({at, {out_.bytes.begin() + at, out_.bytes.begin() + at + size}, std::move(meaning)});
  }

  [[nodiscard]] bool mode64() const { return in_.mode() == isa::Mode::bits64; }

  void prefixes() {
    unsigned at = 0;
    const unsigned end = in_.modrm_at != 0 && in_.modrm_at < in_.opcode_at ? in_.modrm_at : in_.opcode_at;
    for (; at < end; ++at) {
      const std::uint8_t byte = out_.bytes[at];
      if (in_.is_vector_encoded() && (byte == 0xc4 || byte == 0xc5 || byte == 0x62 || byte == 0x8f)) break;
      if (byte == 0x0f) break;
      add(at, 1, prefix_words(byte, at + 1 == end || out_.bytes[at + 1] == 0x0f));
    }
    if (in_.is_vector_encoded()) {
      add(at, end - at, vector_words(out_.bytes[at]));
    } else {
      add(at, end - at, "escape to the opcode map " + map_name());
    }
  }

  [[nodiscard]] std::string map_name() const {
    constexpr std::string_view kNames[] = {"of one byte",
                                           "0F",
                                           "0F38",
                                           "0F3A",
                                           "0F0F (the opcode is the last byte)",
                                           "0F",
                                           "0F38",
                                           "0F3A",
                                           "0F",
                                           "0F38",
                                           "0F3A",
                                           "5",
                                           "6",
                                           "8",
                                           "9",
                                           "A"};
    return std::string(kNames[row_.map]);
  }

  [[nodiscard]] std::string prefix_words(std::uint8_t byte, bool last) const {
    const auto segment = [&](isa::Segment which) {
      return "prefix: segment " + std::string(isa::name_of({RegisterFile::segment, which, 0, 16})) +
             (which < isa::kFs && mode64() ? ", without effect on addresses in 64-bit mode" : "");
    };
    if (mode64() && (byte & 0xf0) == 0x40)
      return last ? rex_words(byte) : "REX prefix, ignored: another prefix follows";
    const bool mandatory = (in_.prefixes & isa::kPrefixMandatory) != 0;
    const bool repeats = (in_.prefixes & (isa::kPrefixRep | isa::kPrefixRepne)) != 0;
    switch (byte) {
      case 0x26: return segment(isa::kEs);
      case 0x2e: return segment(isa::kCs);
      case 0x36: return segment(isa::kSs);
      case 0x3e: return segment(isa::kDs);
      case 0x64: return segment(isa::kFs);
      case 0x65: return segment(isa::kGs);
      case 0x66: return mandatory && !repeats ? "prefix: part of the opcode" : "prefix: operands of 16 bits";
      case 0x67: return mode64() ? "prefix: addresses of 32 bits" : "prefix: addresses of 16 bits";
      case 0xf0: return "prefix: lock, one undivided access to memory";
      default: break;
    }
    if (mandatory) return "prefix: part of the opcode";
    if (isa::is_repeated(in_)) return "prefix: repetition, rcx times at most";
    return "prefix without effect here";
  }

  [[nodiscard]] static std::string rex_words(std::uint8_t byte) {
    std::string words = "REX:";
    if ((byte & 8) != 0) words += " W operands of 64 bits,";
    if ((byte & 4) != 0) words += " R ModRM.reg + 8,";
    if ((byte & 2) != 0) words += " X index + 8,";
    if ((byte & 1) != 0) words += " B ModRM.rm, base or opcode register + 8,";
    if ((byte & 15) == 0) words += " no bits: byte registers 4 to 7 are spl, bpl, sil, dil,";
    words.pop_back();
    return words;
  }

  /// What becomes of elements that the mask leaves out (Intel SDM volume 1, 15.6.1).
  [[nodiscard]] std::string_view masked_words() const {
    const isa::Row& row = isa::row_of(in_);
    const auto uses = isa::uses_of(row);
    if (!uses.empty() && isa::kind_of(uses[0]).file == isa::RegisterFile::mask)
      return " (of masked elements the bits become 0)";
    if ((in_.evex & isa::kEvexZero) != 0) return " (masked elements become 0)";
    return (row.traits & isa::kBlend) != 0 ? " (masked elements come from the first source)"
                                           : " (masked elements stay)";
  }

  [[nodiscard]] std::string vector_words(std::uint8_t first) const {
    std::string words = first == 0x62 ? "EVEX" : first == 0x8f ? "XOP" : first == 0xc5 ? "VEX, short form" : "VEX";
    words += ": map " + map_name() + ", length " + std::to_string(in_.vector_bits());
    if ((in_.rex & 8) != 0) words += ", W";
    if ((in_.vector & isa::kVectorRegister) != 0) words += ", second register " + std::to_string(in_.vector & 31);
    if ((in_.evex & isa::kEvexMask) != 0) {
      words += ", mask k" + std::to_string(in_.evex & isa::kEvexMask);
      words += masked_words();
    }
    if ((in_.evex & isa::kEvexBroadcast) != 0) words += in_.has_rounding() ? ", rounding" : ", broadcast";
    return words;
  }

  void opcode() { add(in_.opcode_at, 1, "opcode, of " + out_.encoding); }

  void modrm() {
    if (in_.modrm_at == 0) return;
    const unsigned mod = in_.modrm >> 6, reg = (in_.modrm >> 3) & 7, rm = in_.modrm & 7;
    std::string words =
        "ModRM: mod " + std::to_string(mod) + (mod == 3 ? " (register)" : " (memory)") + ", reg " +
        std::to_string(reg) +
        (out_.encoding.find(" /" + std::to_string(reg)) != std::string::npos ? " (part of the opcode)" : "") + ", rm " +
        std::to_string(rm);
    const bool sib = mod != 3 && rm == 4 && in_.address_size != 2;
    if (mod != 3 && rm == 5 && mod == 0 && in_.address_size != 2)
      words += mode64() ? " (an address from the next instruction on)" : " (an address alone)";
    if (sib) words += " (a SIB byte follows)";
    add(in_.modrm_at, 1, words);
    if (!sib) return;
    const unsigned base = in_.sib & 7, index = (in_.sib >> 3) & 7;
    add(in_.modrm_at + 1U, 1,
        "SIB: scale " + std::to_string(1 << (in_.sib >> 6)) + ", index " + std::to_string(index) +
            (index == 4 && (in_.rex & 2) == 0 ? " (none)" : "") + ", base " + std::to_string(base) +
            (base == 5 && mod == 0 ? " (none)" : ""));
  }

  void numbers() {
    std::string words = "displacement " + signed_hex(in_.displacement);
    const bool scaled = isa::short_displacement_scale(in_) != 0 && in_.displacement_size == 1;
    if (scaled) words += " (the byte times " + std::to_string(1 << isa::short_displacement_scale(in_)) + ")";
    add(in_.displacement_at, in_.displacement_size, words);
    const bool relative =
        !isa::uses_of(row_).empty() && isa::kind_of(isa::uses_of(row_)[0]).source == isa::Source::relative;
    add(in_.immediate_at, in_.immediate_size[0], relative ? "distance from the next instruction" : "immediate");
    add(in_.immediate_at + 0U + in_.immediate_size[0], in_.immediate_size[1], "second immediate");
  }

  void add_operand(const Operand& operand) {
    isa::Text text;
    isa::add_operand(text, in_, operand, 0, syntax_);
    const bool memory = operand.kind == Operand::Kind::memory;
    out_.operands.push_back(
        {std::string(text.view()), operand.hidden,
         memory && operand.width == 0 && !operand.unknown_size ? "address only" : access_words(operand.access),
         operand.width, consequence_of(operand, in_)});
  }

  const Instruction& in_;
  const isa::Row& row_;
  isa::Syntax syntax_;
  ExplainedBytes out_;
};

Result<ExplainedBytes> explain_bytes(const ExplainRequest& request) {
  auto bytes = bytes_of(request.word);
  if (!bytes) return Error{Fault::usage, "explain bytes: " + request.word + ": is not hexadecimal digits in pairs"};
  const Instruction instruction = isa::decode(*bytes, request.mode);
  if (!instruction) {
    return Error{Fault::usage, "explain bytes: " + request.word + ": no instruction of " +
                                   (request.mode == isa::Mode::bits64 ? "64" : "32") +
                                   "-bit code starts there, or the bytes end inside one"};
  }
  return BytesExplainer(instruction, std::move(*bytes), request.syntax).run();
}

// ---- instructions

/// The bits of a width that goes by the vector length, of `length` bits; 0 for others.
unsigned vector_bits(isa::Width width, unsigned length) {
  using isa::Width;
  switch (width) {
    case Width::vector: return length;
    case Width::vector_half: return length / 2;
    case Width::vector_fourth: return length / 4;
    case Width::vector_eighth: return length / 8;
    case Width::elements8: return length / 8;
    case Width::elements16: return length / 16;
    case Width::elements32: return length / 32;
    case Width::elements64: return length / 64;
    default: return 0;
  }
}

/// The bits of a width as the manuals write them: "32", "16/32/64" where more than the opcode decides; empty where
/// there is no size to name.
std::string width_words(isa::Width width, unsigned length) {
  using isa::Width;
  if (const unsigned bits = std::max(isa::fixed_bits(width), vector_bits(width, length)); bits != 0)
    return width == Width::b4096 ? "512byte" : std::to_string(bits);
  switch (width) {
    case Width::high64: return "64";
    case Width::operand: return "16/32/64";
    case Width::operand32: return "16/32";
    case Width::operand_twice: return "16&16/32&32";
    case Width::rexw: return "32/64";
    case Width::far_pointer: return "16:16/32/64";
    case Width::low16_of_32: return "32";
    case Width::table_register: return "16&32/64";
    case Width::bounds: return "2x32/64";
    case Width::native_value: return "32/64";
    case Width::x87_environment: return "14/28byte";
    case Width::x87_state: return "94/108byte";
    default: return {};
  }
}

std::string register_words(const isa::OperandKind& kind, unsigned length) {
  const unsigned bits = std::max(isa::fixed_bits(kind.width), vector_bits(kind.width, length));
  switch (kind.file) {
    case RegisterFile::general: return "r" + width_words(kind.width, length);
    case RegisterFile::vector: return bits > 256 ? "zmm" : bits > 128 ? "ymm" : "xmm";
    case RegisterFile::segment: return "Sreg";
    case RegisterFile::control: return "CR0-CR8";
    case RegisterFile::debug: return "DR0-DR7";
    case RegisterFile::mask: return "k";
    case RegisterFile::mmx: return "mm";
    case RegisterFile::x87: return "ST(i)";
    case RegisterFile::tile: return "tmm";
    case RegisterFile::bound: return "bnd";
    default: return {};
  }
}

/// What can stand in an operand's place, as the manuals name it (Intel SDM volume 2, 3.1.1.3): "r/m32", "xmm/m128",
/// "imm8".
std::string place_name(const isa::OperandKind& kind, const isa::Row& row, unsigned length) {
  const std::string width = width_words(kind.width, length);
  using isa::Source;
  switch (kind.source) {
    case Source::immediate: return "imm" + width;
    case Source::immediate_signed:
    case Source::immediate_low4: return "imm8";
    case Source::relative: return kind.width == isa::Width::b8 ? "rel8" : "rel16/32";
    case Source::absolute: return "moffs" + width;
    case Source::far: return "ptr16:16/32";
    case Source::one: return "1";
    case Source::gather: return "vm" + width;
    case Source::fixed: {
      const std::string name(isa::name_of(isa::implied_register(kind)));
      if (isa::fixed_bits(kind.width) != 0 || name.size() != 3) return name;
      return name.substr(1) + "/e" + name.substr(1) + "/" + name;  // ax/eax/rax
    }
    default: break;
  }
  const bool memory_only = row.memory == 1, register_only = row.memory == 2;
  const std::string reg = register_words(kind, length), memory = "m" + width;
  if (kind.source != Source::rm || register_only) return reg;
  if (memory_only) return memory;
  return kind.file == RegisterFile::general ? "r/" + memory : reg + "/" + memory;
}

/// An operand of the operand's size, in an encoding whose prefix decides it.
isa::OperandKind sized(isa::OperandKind kind, std::string_view encoding) {
  using isa::Width;
  const bool narrow = encoding.starts_with("66 "), wide = encoding.starts_with("REX.W ");
  if (kind.width == Width::operand && (narrow || wide)) kind.width = narrow ? Width::b16 : Width::b64;
  if (kind.width == Width::operand32 && (narrow || wide)) kind.width = narrow ? Width::b16 : Width::b32;
  return kind;
}

/// A row's forms: one for each vector length, which the encoding of the row tells together ("VEX.128/256.66.0F.WIG").
std::vector<ExplainedForm> forms_of(const isa::Row& row) {
  const std::string all(isa::encoding_of(row));
  const std::size_t from = all.find('.') + 1, end = all.find('.', from);
  std::vector<std::string> lengths = {""};
  if (from != 0 && end != std::string::npos && all[0] != 'R') {
    lengths.clear();
    std::istringstream words(all.substr(from, end - from));
    for (std::string length; std::getline(words, length, '/');) lengths.push_back(length);
  }
  std::vector<ExplainedForm> result;
  const auto uses = isa::uses_of(row);
  for (const std::string& length : lengths) {
    const std::string encoding = length.empty() ? all : all.substr(0, from) + length + all.substr(end);
    const auto bits = static_cast<unsigned>(std::strtoul(length.c_str(), nullptr, 10));
    ExplainedForm form{std::string(isa::mnemonic_of(row)), encoding, std::string(isa::feature_of(row)), row.modes,
                       isa::why_not_provable(row)};
    for (unsigned i = 0; i < row.shown; ++i) {
      form.text += i == 0 ? " " : ", ";
      form.text += place_name(sized(isa::kind_of(uses[i]), encoding), row, bits);
    }
    result.push_back(std::move(form));
  }
  return result;
}

/// Names of one mnemonic in both syntaxes; AT&T's suffixes are left out.
std::optional<ExplainedInstruction> explain_instruction(const std::string& word) {
  ExplainedInstruction result;
  std::map<std::uint16_t, std::size_t> places;
  for (const isa::Row& row : isa::rows()) {
    if (isa::mnemonic_of(row) != word && isa::operation_of(row).name != word && isa::att_mnemonic_of(row) != word)
      continue;
    const auto [place, added] = places.try_emplace(row.operation, result.operations.size());
    if (added) {
      const isa::Operation& operation = isa::operation_of(row);
      result.operations.push_back(
          {isa::general_sentence(row), isa::general_note(operation), doing_of(row, operation.flow), {}});
    }
    for (ExplainedForm& form : forms_of(row)) result.operations[place->second].forms.push_back(std::move(form));
  }
  if (result.operations.empty()) return std::nullopt;
  result.name = word;
  return result;
}

// ---- flags

ExplainedFlags explain_flags(std::uint64_t value) {
  constexpr struct {
    unsigned bit;
    std::string_view name, meaning;
  } kFlags[] = {{0, "CF", "carry: an unsigned result did not fit, or a borrow"},
                {2, "PF", "parity: the result's low byte has an even number of 1 bits"},
                {4, "AF", "carry out of the low four bits, for decimal arithmetic"},
                {6, "ZF", "zero: the result is 0, or both were equal"},
                {7, "SF", "sign: the result's highest bit"},
                {8, "TF", "trap after each instruction"},
                {9, "IF", "interrupts are let through"},
                {10, "DF", "direction: string operations go downwards"},
                {11, "OF", "overflow: a signed result did not fit"},
                {14, "NT", "nested task"},
                {16, "RF", "resume: an instruction breakpoint does not trap once more"},
                {17, "VM", "virtual 8086 mode"},
                {18, "AC", "alignment check"},
                {19, "VIF", "virtual interrupt flag"},
                {20, "VIP", "a virtual interrupt waits"},
                {21, "ID", "can be changed: cpuid exists"}};
  ExplainedFlags result;
  result.value = value;
  result.unnamed = value & ~std::uint64_t(0x3002);  // bit 1 is always 1; bits 12 and 13 are the privilege level
  for (const auto& flag : kFlags) {
    result.flags.push_back({flag.bit, flag.name, flag.meaning, ((value >> flag.bit) & 1) != 0});
    result.unnamed &= ~(std::uint64_t(1) << flag.bit);
  }
  return result;
}

// ---- registers

/// Every register part that has a name.
std::vector<RegisterPart> named_parts() {
  std::vector<RegisterPart> parts;
  const auto add = [&](RegisterFile file, unsigned count, std::initializer_list<std::uint16_t> widths) {
    for (std::uint8_t i = 0; i < count; ++i) {
      for (const std::uint16_t width : widths) parts.push_back({file, i, 0, width});
    }
  };
  add(RegisterFile::general, 16, {64, 32, 16, 8});
  for (std::uint8_t i = 0; i < 4; ++i) parts.push_back({RegisterFile::general, i, 8, 8});
  add(RegisterFile::vector, 32, {512, 256, 128});
  add(RegisterFile::segment, 6, {16});
  add(RegisterFile::control, 16, {64});
  add(RegisterFile::debug, 16, {64});
  add(RegisterFile::mask, 8, {64});
  add(RegisterFile::mmx, 8, {64});
  add(RegisterFile::x87, 8, {80});
  add(RegisterFile::tile, 8, {8192});
  add(RegisterFile::bound, 4, {128});
  add(RegisterFile::mxcsr, 1, {32});
  add(RegisterFile::x87_control, 1, {16});
  add(RegisterFile::x87_status, 1, {16});
  add(RegisterFile::instruction_pointer, 1, {64, 32});
  return parts;
}

std::optional<ExplainedRegister> explain_register(std::string word) {
  if (word.starts_with('%')) word.erase(0, 1);
  const std::vector<RegisterPart> parts = named_parts();
  const auto found = std::find_if(parts.begin(), parts.end(), [&](RegisterPart p) { return isa::name_of(p) == word; });
  if (found == parts.end()) return std::nullopt;
  ExplainedRegister result;
  result.name = word;
  for (const RegisterPart& part : parts) {
    if (part.file != found->file || part.index != found->index) continue;
    result.parts.push_back(std::string(isa::name_of(part)) + ": bits " + std::to_string(part.offset) + " to " +
                           std::to_string(part.offset + part.width - 1));
  }
  result.role = arch::role_of(*found);
  if (found->file == RegisterFile::general)
    result.remark = "a write of 32 bits clears the upper half; one of 8 or 16 bits leaves the rest as it was";
  if (found->file == RegisterFile::vector)
    result.remark = "instructions with VEX or EVEX clear the bits above those that they write; older ones leave them";
  return result;
}

std::vector<std::string> names_in(std::string_view names) {
  std::vector<std::string> result;
  while (!names.empty()) {
    const std::size_t end = std::min(names.find(' '), names.size());
    result.emplace_back(names.substr(0, end));
    names.remove_prefix(std::min(end + 1, names.size()));
  }
  return result;
}

std::optional<ExplainedPrefix> explain_prefix(const std::string& word) {
  for (const isa::NamedPrefix& row : isa::named_prefixes()) {
    const std::vector<std::string> names = names_in(row.names);
    if (std::ranges::find(names, word) == names.end()) continue;
    return ExplainedPrefix{
        word, std::string(row.encoding), std::string(row.meaning), {std::string(row.where), std::string(row.warning)}};
  }
  return std::nullopt;
}

Error unknown(const std::string& kind, const std::string& word) {
  std::set<std::string> names;
  const auto wanted = [&](std::string_view one) { return kind.empty() || kind == one; };
  if (wanted("instruction")) {
    for (const isa::Row& row : isa::rows()) names.emplace(isa::mnemonic_of(row));
  }
  if (wanted("register")) {
    for (const RegisterPart& part : named_parts()) names.emplace(isa::name_of(part));
  }
  if (wanted("prefix")) {
    for (const isa::NamedPrefix& row : isa::named_prefixes()) {
      for (std::string& name : names_in(row.names)) names.insert(std::move(name));
    }
  }
  for (std::string& name : system_names(kind)) names.insert(std::move(name));
  std::string all;
  if (wanted("convention")) {
    for (const abi::Convention& one : abi::conventions()) {
      names.emplace(one.name);
      for (const std::string_view other : abi::names_in(one.also)) names.emplace(other);
      all += (all.empty() ? "" : ", ") + std::string(one.name);
    }
  }
  std::string message =
      "explain: " + word +
      ": no instruction, register, prefix, system call, error, signal, constant or convention has that name";
  if (!kind.empty()) message = "explain " + kind + ": " + word + ": there is none of that name or number";
  if (kind == "convention") return {Fault::usage, message + "; there are " + all};
  message += similar_words(similar_names(names, word));
  return {Fault::usage, message};
}

Result<ExplainedPassing> passing_of(const ExplainRequest& request) {
  if (!request.file.empty()) return explain_passing(request.file, request.word);
  std::string name = request.convention;
  if (name.empty()) name = request.mode == isa::Mode::bits64 ? "system-v-64" : "system-v-32";
  const abi::Convention* convention = abi::convention_named(name);
  if (convention == nullptr) return unknown("convention", name);
  return explain_passing(request.word, *convention);
}

}  // namespace

std::span<const ExplainedKind> explained_kinds() {
  static constexpr ExplainedKind kKinds[] = {{"bytes", "HEX"},
                                             {"instruction", "NAME"},
                                             {"flags", "VALUE"},
                                             {"register", "NAME"},
                                             {"prefix", "NAME"},
                                             {"syscall", "NAME|NUMBER"},
                                             {"error", "NAME|NUMBER"},
                                             {"signal", "NAME|NUMBER"},
                                             {"constant", "NAME|VALUE"},
                                             {"convention", "NAME"},
                                             {"passing", "DECLARATION|FILE FUNCTION"},
                                             {"frame", "FILE FUNCTION"}};
  return kKinds;
}

Result<Explanation> explain(const ExplainRequest& request) {
  Explanation result;
  const std::string word = lower(request.word);
  const std::string& kind = request.kind;
  if (kind == "bytes") {
    Result<ExplainedBytes> bytes = explain_bytes(request);
    if (!bytes) return bytes.error();
    result.bytes = std::move(*bytes);
    return result;
  }
  if (kind == "flags") {
    const auto value = number_in(word);
    if (!value) return Error{Fault::usage, "explain flags: " + request.word + ": is not a number"};
    result.flags = explain_flags(*value);
    return result;
  }
  if (kind == "passing") {
    Result<ExplainedPassing> passing = passing_of(request);
    if (!passing) return passing.error();
    result.passing = std::move(*passing);
    return result;
  }
  if (kind == "frame") {
    if (request.file.empty()) return Error{Fault::usage, "explain frame: " + request.word + ": takes FILE FUNCTION"};
    Result<ExplainedFrame> frame = explain_frame(request.file, request.word, request.syntax);
    if (!frame) return frame.error();
    result.frame = std::move(*frame);
    return result;
  }
  const auto wanted = [&](std::string_view one) { return kind.empty() || kind == one; };
  if (wanted("instruction")) result.instruction = explain_instruction(word);
  if (wanted("register")) result.reg = explain_register(word);
  if (wanted("prefix")) result.prefix = explain_prefix(word);
  if (wanted("syscall")) result.call = explain_call(request.word, request.mode);
  if (wanted("error")) result.error = explain_error(request.word);
  if (wanted("signal")) result.signal = explain_signal(request.word);
  if (wanted("convention")) result.convention = explain_convention(request.word);
  if (wanted("constant")) result.constants = explain_constant(request.word);
  if (kind.empty()) {
    if (bytes_of(word)) {
      if (Result<ExplainedBytes> bytes = explain_bytes(request)) result.bytes = std::move(*bytes);
    }
    if (const auto value = number_in(word)) {
      result.flags = explain_flags(*value);
      result.brief = true;
    }
    // A constant that is an error or a signal says no more than these.
    if (result.error || result.signal) result.constants.reset();
  }
  if (!result.instruction && !result.reg && !result.prefix && !result.bytes && !result.flags && !result.call &&
      !result.error && !result.signal && !result.constants && !result.convention)
    return unknown(kind, request.word);
  return result;
}

}  // namespace deeptrace::study
