#include "corefile/notes.h"

#include <algorithm>

#include "binary/notes.h"
#include "corefile/layouts.h"
#include "state/extended_area.h"

namespace deeptrace::corefile {
namespace {

using state::Reg;

enum NoteType : std::uint32_t {
  kStatus = 1,               ///< NT_PRSTATUS: begins a thread
  kFloating = 2,             ///< NT_PRFPREG
  kProcess = 3,              ///< NT_PRPSINFO
  kAuxiliary = 6,            ///< NT_AUXV
  kThreadAreas = 0x200,      ///< NT_386_TLS
  kExtended = 0x202,         ///< NT_X86_XSTATE
  kLayout = 0x205,           ///< NT_X86_XSAVE_LAYOUT
  kFiles = 0x46494c45,       ///< NT_FILE
  kOldVectors = 0x46e62b7f,  ///< NT_PRXFPREG
  kSignal = 0x53494749,      ///< NT_SIGINFO
};

class Reader {
 public:
  explicit Reader(const binary::Elf& core) : core_(core), offsets_(kOffsets[core.wide()]) {}

  CoreNotes read() {
    for (const binary::Segment& segment : core_.segments()) {
      if (segment.type != binary::kNoteSegment) continue;
      const binary::Notes notes = binary::notes_in(core_.bytes_of(segment), segment.alignment);
      if (!notes.whole) out_.remarks.emplace_back("the notes of the core file are cut off or damaged");
      for (const binary::Note& note : notes.all) {
        if (note.type == kLayout && note.owner == "LINUX") layout(note.contents);
      }
      for (const binary::Note& note : notes.all) take(note);
    }
    return std::move(out_);
  }

 private:
  void take(const binary::Note& note) {
    if (note.owner != "CORE" && note.owner != "LINUX") return;
    switch (note.type) {
      case kStatus: status(note.contents); break;
      case kFloating: floating(note.contents, core_.wide()); break;
      case kOldVectors: floating(note.contents, !core_.wide()); break;
      case kExtended: extended(note.contents); break;
      case kThreadAreas: thread_areas(note.contents); break;
      case kProcess: process(note.contents); break;
      case kAuxiliary: auxiliary(note.contents); break;
      case kSignal: signal(note.contents); break;
      case kFiles: files(note.contents); break;
      default: break;
    }
  }

  void damaged(const char* what) {
    const std::string text = std::string(what) + " in the core file is damaged";
    if (std::ranges::find(out_.remarks, text) == out_.remarks.end()) out_.remarks.push_back(text);
  }

  [[nodiscard]] std::size_t word() const { return core_.machine().word; }

  void status(Bytes contents) {
    ByteReader reader(contents, offsets_.thread);
    ThreadNotes thread;
    thread.id = static_cast<state::ThreadId>(reader.u32());
    reader = ByteReader(contents, offsets_.registers);
    const std::span<const Reg> order = order_of(core_.wide());
    std::int64_t call = -1;
    for (const Reg reg : order) {
      const std::uint64_t value = reader.unsigned_of(word());
      if (reg == kNoRegister) {
        call = core_.wide() ? static_cast<std::int64_t>(value) : static_cast<std::int32_t>(value);
      } else {
        thread.registers[reg] = value;
      }
    }
    if (!reader.good()) return damaged("the registers of a thread");
    thread.registers[Reg::rflags] &= ~state::kResumeFlag;  // the fault set it, and not the program
    if (call >= 0) thread.system_call = static_cast<std::uint64_t>(call);
    out_.threads.push_back(std::move(thread));
  }

  /// Without a note of the whole area, what this one has is all that is known.
  void floating(Bytes contents, bool legacy_area) {
    if (!legacy_area || out_.threads.empty() || out_.threads.back().extended) return;
    out_.threads.back().extended = state::extended_from(contents, {});
  }

  void extended(Bytes contents) {
    if (out_.threads.empty()) return;
    auto layout = layout_;
    if (!layout) layout = state::known_layout(state::components_of(contents), contents.size());
    if (!layout) {
      const std::string text = "the core file does not say where its " + std::to_string(contents.size()) +
                               " bytes of vector registers have which: only their low 128 bits are known";
      if (std::ranges::find(out_.remarks, text) == out_.remarks.end()) out_.remarks.push_back(text);
      layout.emplace();
    }
    if (auto set = state::extended_from(contents, *layout)) {
      out_.threads.back().extended = std::move(set);
    } else {
      damaged("the vector registers of a thread");
    }
  }

  /// Records of four 32-bit words: component, size, offset, flags (<asm/elf.h>: x86_xfeat_component).
  void layout(Bytes contents) {
    state::AreaLayout layout;
    ByteReader reader(contents);
    while (reader.remaining() >= 16) {
      const std::uint32_t number = reader.u32(), size = reader.u32(), offset = reader.u32();
      reader.skip(4);
      if (state::AreaLayout::Place* place = layout.component(number)) *place = {offset, size};
    }
    layout_ = layout;
  }

  /// Where fs and gs of 32-bit code lead: records of a descriptor's number, base, limit and flags (<asm/ldt.h>).
  void thread_areas(Bytes contents) {
    if (out_.threads.empty()) return;
    state::RegisterSet& set = out_.threads.back().registers;
    ByteReader reader(contents);
    while (reader.remaining() >= 16) {
      const std::uint32_t number = reader.u32(), base = reader.u32();
      reader.skip(8);
      if (set[Reg::fs] >> 3 == number) set[Reg::fs_base] = base;
      if (set[Reg::gs] >> 3 == number) set[Reg::gs_base] = base;
    }
  }

  void process(Bytes contents) {
    ByteReader reader(contents, offsets_.process);
    out_.process = static_cast<state::ThreadId>(reader.u32());
    reader = ByteReader(contents, offsets_.name);
    const Bytes name = reader.bytes(kNameSize);
    if (!reader.good()) return damaged("the process's name");
    out_.name.assign(name.begin(), std::ranges::find(name, std::uint8_t(0)));
  }

  void auxiliary(Bytes contents) {
    ByteReader reader(contents);
    while (reader.remaining() >= 2 * word()) {
      const std::uint64_t type = reader.unsigned_of(word()), value = reader.unsigned_of(word());
      if (type == 0) break;
      out_.auxiliary.emplace_back(type, value);
    }
  }

  void signal(Bytes contents) {
    ByteReader reader(contents);
    const auto number = static_cast<int>(reader.u32());
    reader.skip(4);
    const auto code = static_cast<int>(reader.u32());
    reader = ByteReader(contents, offsets_.fault_address);
    const std::uint64_t address = reader.unsigned_of(word());
    if (!reader.good()) return damaged("the signal");
    out_.signal = state::pending_signal(number, code, address);
  }

  /// Two counts, the ranges as start, end and offset in pages, then as many names.
  void files(Bytes contents) {
    ByteReader reader(contents);
    const std::uint64_t count = reader.unsigned_of(word()), page = reader.unsigned_of(word());
    if (!reader.good() || count > contents.size() / (3 * word())) return damaged("the list of mapped files");
    std::vector<MappedPart> parts;
    for (std::uint64_t i = 0; i < count; ++i) {
      MappedPart& part = parts.emplace_back();
      part.from = reader.unsigned_of(word());
      part.to = reader.unsigned_of(word());
      part.offset = reader.unsigned_of(word()) * page;
    }
    for (MappedPart& part : parts) part.path = reader.string();
    if (!reader.good()) return damaged("the list of mapped files");
    out_.files.insert(out_.files.end(), std::make_move_iterator(parts.begin()), std::make_move_iterator(parts.end()));
  }

  const binary::Elf& core_;
  const Offsets& offsets_;
  std::optional<state::AreaLayout> layout_;
  CoreNotes out_;
};

}  // namespace

CoreNotes read_notes(const binary::Elf& core) { return Reader(core).read(); }

std::vector<state::ThreadId> numbered_threads(const CoreNotes& notes) {
  std::vector<state::ThreadId> result;
  for (const ThreadNotes& thread : notes.threads) result.push_back(thread.id);
  std::ranges::sort(result, [&](state::ThreadId a, state::ThreadId b) {
    return std::pair(a != notes.process, a) < std::pair(b != notes.process, b);
  });
  return result;
}

}  // namespace deeptrace::corefile
