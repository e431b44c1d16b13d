// The second pass.
#include <algorithm>
#include <cstring>

#include "base/number.h"
#include "isa/assembler.h"
#include "study/source_writer.h"

namespace deeptrace::study {

AssemblySummary SourceWriter::write() {
  std::string options = elf_.wide() ? "--64" : "--32";
  for (const std::string_view option : isa::kAssemblerOptions) options += " " + std::string(option);
  line("# " + elf_.path());
  line("# as " + options);
  for (const std::string& remark : remarks_) line("# note: " + remark);
  line(request_.syntax == isa::Syntax::intel ? ".intel_syntax noprefix" : ".att_syntax");
  for (const AddressRange& range : ranges_) write_code(range);
  for (const std::uint32_t section : data_sections_) write_data(elf_.sections()[section]);
  write_copies();
  if (object_) write_other_symbols();
  for (std::size_t i = 0; i < late_.size(); ++i) {
    if (!late_[i]) continue;
    isa::Text name, value;
    isa::add_late_symbol_name(name, static_cast<std::int8_t>(i));
    value.add_signed_hex(static_cast<std::int8_t>(i));
    line("\t.set " + std::string(name.view()) + ", " + std::string(value.view()));
  }
  line("\t.section .note.GNU-stack,\"\",@progbits");
  line("# " + std::to_string(summary_.instructions) + " instructions, " + std::to_string(summary_.data) +
       " bytes of data");
  return summary_;
}

std::string SourceWriter::copy_name(std::uint64_t address, unsigned size) {
  unsigned& known = copies_[address];
  known = std::max(known, size);
  isa::Text name;
  name.add(tables_.count(address) != 0 ? ".Ltable_" : size != 0 ? ".Lconstant_" : ".Lstring_");
  name.add_digits(address);
  return std::string(name.view());
}

void SourceWriter::write_copies() {
  if (copies_.empty()) return;
  line("\t.section .rodata");
  for (const auto& [address, size] : copies_) {
    if (const auto table = tables_.find(address); table != tables_.end()) {
      write_table(table->second);
      continue;
    }
    const Bytes bytes = elf_.bytes_at(address);
    if (size != 0) {
      line("\t.balign " + std::to_string(size >= 16 ? 16 : size >= 8 ? 8 : size));
      line(copy_name(address, size) + ":");
    }
    // The same place can be read as a string too.
    const auto end = std::ranges::find(bytes, 0);
    const auto length = static_cast<std::size_t>(end - bytes.begin());
    if (size == 0) {
      line(copy_name(address, 0) + ":");
      write_bytes(bytes.first(std::min(length + 1, bytes.size())), true);
    } else {
      write_bytes(bytes.first(std::min<std::size_t>(size, bytes.size())), false);
    }
  }
}

void SourceWriter::write_table(const JumpTable& table) {
  const std::string name = copy_name(table.address, 0);
  line("\t.balign " + std::to_string(table.entry_size));
  line(name + ":");
  for_each_entry(table, [&](std::uint64_t target) {
    line((table.entry_size == 8 ? "\t.quad " : "\t.long ") + label(target) + (table.from_table() ? "-" + name : ""));
  });
}

void SourceWriter::write_bytes(Bytes bytes, bool text) {
  const std::size_t most = text ? 48 : 8;
  for (std::size_t at = 0; at < bytes.size(); at += most) {
    isa::Text out;
    out.add('\t');
    (text ? isa::add_characters : isa::add_bytes)(out, bytes.subspan(at, std::min(most, bytes.size() - at)));
    line(out.view());
  }
  summary_.data += bytes.size();
}

void SourceWriter::begin_section(const Section& section) {
  std::string flags;
  if ((section.flags & binary::kAllocated) != 0) flags += 'a';
  if ((section.flags & binary::kWritable) != 0) flags += 'w';
  if ((section.flags & binary::kExecutable) != 0) flags += 'x';
  if ((section.flags & binary::kMerge) != 0) flags += 'M';
  if ((section.flags & binary::kStrings) != 0) flags += 'S';
  if ((section.flags & binary::kThreadStorage) != 0) flags += 'T';
  if (groups_.count(section.index) != 0) flags += 'G';
  std::string text = "\t.section " + quoted(section.name) + ",\"" + flags + "\"," + type_word(section.type);
  if ((section.flags & binary::kMerge) != 0) text += "," + std::to_string(section.entry_size);
  if (const auto group = groups_.find(section.index); group != groups_.end()) text += "," + group->second + ",comdat";
  line(text);
  if (section.alignment > 1) line("\t.balign " + std::to_string(section.alignment));
}

std::string SourceWriter::type_word(std::uint32_t type) {
  switch (type) {
    case 1: return "@progbits";
    case 7: return "@note";
    case 8: return "@nobits";
    case 14: return "@init_array";
    case 15: return "@fini_array";
    case 16: return "@preinit_array";
    default: return "@" + std::to_string(type);
  }
}

void SourceWriter::write_code(AddressRange range) {
  const Section* section = elf_.section_at(range.from);
  if (object_) {
    if (section->index != section_) begin_section(*section);
  } else {
    if (section_ == 0) line("\t.text");
    if (range.from % 16 == 0) line("\t.balign 16");
  }
  section_ = section->index;
  const auto& relocations = program_.relocations();
  for (const Stretch& stretch : stretches_[range.from]) {
    for (std::uint64_t at = stretch.range.from; at < stretch.range.to;) {
      end_unwinding(at);
      head(section_, at);
      begin_unwinding(at);
      const isa::Instruction instruction =
          stretch.kind == Stretch::Kind::code ? decode(stretch, at) : isa::Instruction{};
      if (instruction) {
        write_instruction(instruction, at);
        at += instruction.length;
        continue;
      }
      const auto next = std::ranges::lower_bound(relocations, at, {}, &Relocation::address);
      if (stretch.kind == Stretch::Kind::code) {
        write_bytes(elf_.bytes_at(at).first(1), false);
        ++at;
      } else if (object_ && next != relocations.end() && next->address == at) {
        at += write_word(*next, section_);
      } else {
        std::uint64_t to = at + 1;
        while (to < stretch.range.to && !needs_head(section_, to) && !(object_ && program_.relocation_in(to, 1))) ++to;
        write_bytes(elf_.bytes_at(at).first(to - at), stretch.kind == Stretch::Kind::string);
        at = to;
      }
    }
  }
  end_unwinding(range.to);
  end_symbols(range.to);
}

void SourceWriter::begin_unwinding(std::uint64_t address) {
  if (const auto begins = unwinding_.find(address); begins != unwinding_.end()) {
    line(begins->second.simple ? "\t.cfi_startproc simple" : "\t.cfi_startproc");
    unwinding_to_ = begins->second.to;
  }
  const auto lines = unwind_lines_.find(address);
  if (lines == unwind_lines_.end() || unwinding_to_ == 0) return;
  for (const std::string& one : lines->second) line(one);
}

void SourceWriter::end_unwinding(std::uint64_t address) {
  if (unwinding_to_ == 0 || address < unwinding_to_) return;
  line("\t.cfi_endproc");
  unwinding_to_ = 0;
}

void SourceWriter::write_instruction(const isa::Instruction& in, std::uint64_t address) {
  const auto found = references_.find(address);
  const References references = found != references_.end() ? found->second : References{};
  // Names can be longer than the assembler text holds: they are put in afterwards.
  constexpr std::string_view kTarget = "\1", kDisplacement = "\2", kImmediate = "\3";
  const bool intel = request_.syntax == isa::Syntax::intel && !references.ambiguous;
  isa::Names names;
  if (!references.target.empty()) names.target = kTarget;
  if (!references.displacement.empty()) names.displacement = kDisplacement;
  if (!references.immediate.empty()) names.immediate = kImmediate;
  const isa::AssemblerText text = isa::assembler_text(in, elf_.bytes_at(address).first(in.length), address,
                                                      intel ? isa::Syntax::intel : isa::Syntax::att, names);
  if (text.form == isa::Form::late_symbol) late_[static_cast<std::uint8_t>(text.late_value)] = true;
  std::string result;
  for (const char c : text.text.view()) {
    if (c == kTarget[0]) {
      result += references.target;
    } else if (c == kDisplacement[0]) {
      result += references.displacement;
    } else if (c == kImmediate[0]) {
      result += intel ? "offset " + references.immediate : references.immediate;
    } else {
      result += c;
      if (c == '\n') result += '\t';
    }
  }
  if (!references.directive.empty())
    line(std::string_view(references.directive).substr(0, references.directive.size() - 1));
  const bool switched = references.ambiguous && request_.syntax == isa::Syntax::intel;
  if (switched) line("\t.att_syntax");
  line("\t" + result);
  if (switched) line("\t.intel_syntax noprefix");
  ++summary_.instructions;
}

bool SourceWriter::needs_head(std::uint32_t section, std::uint64_t address) const {
  return labels_.count(address) != 0 || unwind_lines_.count(address) != 0 || unwinding_to_ == address ||
         symbols_.count(std::pair(section, address)) != 0 || ends_.count(address) != 0;
}

void SourceWriter::head(std::uint32_t section, std::uint64_t address) {
  end_symbols(address);
  const auto [from, to] = symbols_.equal_range(std::pair(section, address));
  for (auto at = from; at != to; ++at) declare(at->second);
  const auto label = labels_.find(address);
  if (label != labels_.end()) line(label->second + ":");
}

void SourceWriter::declare(const Symbol& symbol) {
  const std::string name = quoted(symbol.name);
  attributes(symbol, name);
  if (const std::string_view type = type_name(symbol); !type.empty())
    line("\t.type " + name + ", " + std::string(type));
  line(name + ":");
  if (symbol.size != 0) ends_.emplace(symbol.address + symbol.size, name);
}

void SourceWriter::attributes(const Symbol& symbol, const std::string& name) {
  constexpr std::array<std::string_view, 4> kVisibility = {"", "\t.internal ", "\t.hidden ", "\t.protected "};
  if (symbol.weak) {
    line("\t.weak " + name);
  } else if (symbol.global) {
    line("\t.globl " + name);
  }
  if (symbol.visibility != 0) line(std::string(kVisibility[symbol.visibility]) + name);
}

std::string_view SourceWriter::type_name(const Symbol& symbol) {
  switch (symbol.type) {
    case binary::kFunction: return "@function";
    case binary::kObject: return "@object";
    case binary::kThreadLocal: return "@tls_object";
    case binary::kIndirectFunction: return "@gnu_indirect_function";
    default: return {};
  }
}

void SourceWriter::end_symbols(std::uint64_t address) {
  while (!ends_.empty() && ends_.begin()->first <= address) {
    const auto& [end, name] = *ends_.begin();
    if (end == address) line("\t.size " + name + ", .-" + name);
    ends_.erase(ends_.begin());
  }
}

void SourceWriter::write_other_symbols() {
  for (const Symbol& symbol : elf_.symbols()) {
    if (symbol.name.empty() || symbol.section != 0) continue;
    const std::string name = quoted(symbol.name);
    if (symbol.common) {
      line("\t.comm " + name + "," + std::to_string(symbol.size) + "," + std::to_string(symbol.address));
    } else if (symbol.weak || symbol.visibility != 0) {
      attributes(symbol, name);
    }
  }
}

void SourceWriter::write_data(const Section& section) {
  begin_section(section);
  section_ = section.index;
  const Bytes bytes = elf_.bytes_of(section);
  const auto& relocations = program_.relocations();
  const std::uint64_t end = section.address + section.size;
  for (std::uint64_t at = section.address; at < end;) {
    head(section.index, at);
    const auto next = std::ranges::lower_bound(relocations, at, {}, &Relocation::address);
    const bool relocated = next != relocations.end() && next->address < end;
    if (relocated && next->address == at) {
      at += write_word(*next, section.index);
      continue;
    }
    std::uint64_t to = relocated ? next->address : end;
    const auto symbol = symbols_.upper_bound(std::pair(section.index, at));
    if (symbol != symbols_.end() && symbol->first.first == section.index) to = std::min(to, symbol->first.second);
    if (const auto label = labels_.upper_bound(at); label != labels_.end()) to = std::min(to, label->first);
    if (const auto ended = ends_.upper_bound(at); ended != ends_.end()) to = std::min(to, ended->first);
    write_plain(section, bytes, at, to);
    at = to;
  }
  end_symbols(end);
}

void SourceWriter::write_plain(const Section& section, Bytes bytes, std::uint64_t from, std::uint64_t to) {
  if (section.type == binary::kNoBits) {
    line("\t.zero " + std::to_string(to - from));
    return;
  }
  const Bytes piece = bytes.subspan(from - section.address, to - from);
  if (piece.size() > 8 && std::ranges::all_of(piece, [](std::uint8_t byte) { return byte == 0; })) {
    line("\t.zero " + std::to_string(piece.size()));
    summary_.data += piece.size();
  } else {
    const auto readable = std::ranges::count_if(piece, [](std::uint8_t b) { return b >= 0x20 && b < 0x7f; });
    write_bytes(piece, static_cast<std::size_t>(readable) * 4 >= piece.size() * 3);
  }
}

std::uint64_t SourceWriter::write_word(const Relocation& relocation, std::uint32_t section) {
  const arch::RelocationKind* kind = arch::relocation_kind(relocation.type, program_.mode());
  const std::uint64_t size = kind != nullptr && kind->size != 0 ? kind->size : 1;
  const std::string_view word = size == 8 ? "\t.quad " : "\t.long ";
  if (kind != nullptr && (kind->places & arch::RelocationKind::kDataDistance) != 0) {
    line(std::string(word) + distance(relocation, section));
  } else if (kind != nullptr && (kind->places & arch::RelocationKind::kData) != 0) {
    const Result<std::string> name = symbol_of(relocation, relocation.addend, relocation.address);
    line(std::string(word) + (name ? suffixed(relocation, *kind, *name) : "0"));
  } else {
    References references;
    if (kind != nullptr) (void)add_directive(relocation, *kind, relocation.address, size, references);
    if (!references.directive.empty())
      line(std::string_view(references.directive).substr(0, references.directive.size() - 1));
    write_bytes(elf_.bytes_at(relocation.address).first(size), false);
    return size;
  }
  summary_.data += size;
  return size;
}

std::string SourceWriter::distance(const Relocation& relocation, std::uint32_t section) {
  if (relocation.section_symbol && elf_.sections()[relocation.section].is_code()) {
    for (auto table = labels_.upper_bound(relocation.address); table != labels_.begin();) {
      --table;
      if (table->first < elf_.sections()[section].address) break;
      const std::uint64_t target =
          relocation.symbol_value + static_cast<std::uint64_t>(relocation.addend) - (relocation.address - table->first);
      if (starts_.count(target) != 0) return label(target) + "-" + table->second;
    }
    for (const auto& [place, symbol] : symbols_) {
      if (place.first != section || place.second > relocation.address) continue;
      const std::uint64_t target =
          relocation.symbol_value + static_cast<std::uint64_t>(relocation.addend) - (relocation.address - place.second);
      if (starts_.count(target) != 0) return label(target) + "-" + quoted(symbol.name);
    }
  }
  return with_offset(quoted(relocation.symbol), relocation.addend) + "-.";
}

}  // namespace deeptrace::study
