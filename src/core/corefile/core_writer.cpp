#include "corefile/core_writer.h"

#include <elf.h>
#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "arch/machine.h"
#include "base/file_descriptor.h"
#include "corefile/layouts.h"
#include "state/extended_area.h"

namespace deeptrace::corefile {
namespace {

using state::Reg;

/// Bytes that grow by numbers, little-endian.
class Blob {
 public:
  Blob& number(std::uint64_t value, std::size_t size) {
    for (std::size_t i = 0; i < size; ++i) bytes_.push_back(i < 8 ? static_cast<std::uint8_t>(value >> (8 * i)) : 0);
    return *this;
  }
  Blob& text(std::string_view value, std::size_t room) {
    value = value.substr(0, room - 1);
    bytes_.insert(bytes_.end(), value.begin(), value.end());
    return fill_to(bytes_.size() + room - value.size());
  }
  Blob& all(Bytes more) {
    bytes_.insert(bytes_.end(), more.begin(), more.end());
    return *this;
  }
  Blob& fill_to(std::size_t size) {
    bytes_.resize(std::max(size, bytes_.size()));
    return *this;
  }
  [[nodiscard]] const std::vector<std::uint8_t>& bytes() const { return bytes_; }
  [[nodiscard]] std::size_t size() const { return bytes_.size(); }

 private:
  std::vector<std::uint8_t> bytes_;
};

constexpr std::uint64_t kPage = 4096;

/// A part of memory, and how much of it the file has.
struct Part {
  state::Mapping mapping;
  std::uint64_t saved = 0;  ///< bytes from its start
};

class Writer {
 public:
  Writer(const CoreSource& source, int file)
      : source_(source),
        target_(source.target),
        view_(source.target.view(source.thread)),
        wide_(view_.mode() == isa::Mode::bits64),
        word_(arch::machine_of(view_.mode()).word),
        file_(file) {}

  bool write() {
    choose_parts();
    add_notes();
    return put_headers() && put_memory();
  }
  [[nodiscard]] const CoreSummary& summary() const { return summary_; }

 private:
  // What is saved.

  void choose_parts() {
    for (const state::Mapping& mapping : target_.mappings()) {
      if (!wide_ && mapping.to > (std::uint64_t(1) << 32)) continue;
      const std::uint64_t size = mapping.to - mapping.from;
      const bool of_file = mapping.path.starts_with('/');
      std::uint64_t saved = size;
      if (!mapping.readable || mapping.path == "[vvar]" || mapping.path == "[vsyscall]") {
        saved = 0;
      } else if (of_file && !mapping.writable) {
        saved = begins_elf(mapping) ? std::min(size, kPage) : 0;
      } else if (of_file && mapping.shared) {
        saved = 0;  // the file has it
      }
      parts_.push_back({mapping, saved});
    }
  }

  [[nodiscard]] bool begins_elf(const state::Mapping& mapping) const {
    std::uint8_t magic[4] = {};
    return view_.read_memory(mapping.from, magic) == sizeof magic && std::memcmp(magic, ELFMAG, 4) == 0;
  }

  // Notes.

  void note(std::string_view owner, std::uint32_t type, Bytes contents) {
    notes_.number(owner.size() + 1, 4).number(contents.size(), 4).number(type, 4).text(owner, owner.size() + 1);
    notes_.fill_to((notes_.size() + 3) / 4 * 4).all(contents);
    notes_.fill_to((notes_.size() + 3) / 4 * 4);
  }

  void add_notes() {
    std::vector<state::ThreadId> threads = target_.threads();
    std::stable_partition(threads.begin(), threads.end(), [this](state::ThreadId id) { return id == source_.thread; });
    const auto signal = target_.pending_signal(source_.thread);
    bool first = true;
    for (const state::ThreadId id : threads) {
      add_thread(id, signal ? signal->number : 0);
      if (std::exchange(first, false)) {
        add_process();
        if (signal) add_signal(*signal);
        add_auxiliary();
        add_files();
      }
      add_extended(id);
    }
    summary_.threads = threads.size();
  }

  void add_thread(state::ThreadId id, int signal) {
    const Offsets& offsets = kOffsets[wide_ ? 1 : 0];
    const state::RegisterSet& registers = target_.view(id).registers();
    const auto call = target_.system_call(id);
    Blob blob;
    blob.number(static_cast<std::uint64_t>(signal), 4).fill_to(12).number(static_cast<std::uint64_t>(signal), 2);
    blob.fill_to(offsets.thread).number(static_cast<std::uint64_t>(id), 4).fill_to(offsets.registers);
    for (const Reg reg : order_of(wide_))
      blob.number(reg == kNoRegister ? call.value_or(~0ULL) : registers[reg], word_);
    blob.number(1, 4).fill_to((blob.size() + word_ - 1) / word_ * word_);  // pr_fpvalid
    note("CORE", NT_PRSTATUS, blob.bytes());
  }

  void add_process() {
    const Offsets& offsets = kOffsets[wide_ ? 1 : 0];
    Blob blob;
    blob.number(0, 1).text("R", 1 + 1).fill_to(offsets.process);
    blob.number(static_cast<std::uint64_t>(source_.process), 4).fill_to(offsets.name);
    blob.text(source_.name, kNameSize).text(source_.name, kArgumentsSize);
    note("CORE", NT_PRPSINFO, blob.bytes());
  }

  void add_signal(const state::PendingSignal& signal) {
    Blob blob;
    blob.number(static_cast<std::uint64_t>(signal.number), 4).number(0, 4);
    blob.number(static_cast<std::uint64_t>(signal.code), 4).fill_to(kOffsets[wide_ ? 1 : 0].fault_address);
    blob.number(signal.fault_address, word_).fill_to(kSignalSize);
    note("CORE", NT_SIGINFO, blob.bytes());
  }

  void add_auxiliary() {
    constexpr std::uint64_t kMostTypes = 64;  // <linux/auxvec.h> goes up to 51
    Blob blob;
    for (std::uint64_t type = 1; type < kMostTypes; ++type) {
      if (const auto value = target_.auxiliary(static_cast<state::Auxiliary>(type)))
        blob.number(type, word_).number(*value, word_);
    }
    note("CORE", NT_AUXV, blob.number(0, 2 * word_).bytes());
  }

  void add_files() {
    std::vector<const state::Mapping*> files;
    for (const Part& part : parts_) {
      if (part.mapping.path.starts_with('/')) files.push_back(&part.mapping);
    }
    Blob blob;
    blob.number(files.size(), word_).number(kPage, word_);
    for (const state::Mapping* one : files)
      blob.number(one->from, word_).number(one->to, word_).number(one->offset / kPage, word_);
    for (const state::Mapping* one : files) blob.text(one->path, one->path.size() + 1);
    note("CORE", NT_FILE, blob.bytes());
  }

  /// An area in the standard form, and, as processors differ in theirs, where its components lie.
  void add_extended(state::ThreadId id) {
    const auto set = target_.view(id).extended();
    if (!set) return;
    struct Component {
      std::uint32_t number, offset, size;
    };
    constexpr Component kComponents[] = {{2, 576, 256}, {5, 1088, 64}, {6, 1152, 512}, {7, 1664, 1024}};
    std::vector<std::uint8_t> area(2688);
    state::AreaLayout layout;
    std::uint64_t present = 3;
    Blob places;
    for (const Component& one : kComponents) {
      if (one.number == 2 ? set->vector_bits < 256 : !set->has_masks) continue;
      *layout.component(one.number) = {one.offset, one.size};
      present |= std::uint64_t(1) << one.number;
      places.number(one.number, 4).number(one.size, 4).number(one.offset, 4).number(0, 4);
    }
    state::put_extended(area, layout, *set);
    std::memcpy(area.data() + state::kComponentsAt, &present, sizeof present);
    if (wide_) note("CORE", NT_PRFPREG, Bytes(area).first(state::kLegacyArea));
    if (!wide_) note("LINUX", NT_PRXFPREG, Bytes(area).first(state::kLegacyArea));
    note("LINUX", NT_X86_XSTATE, area);
    if (places.size() != 0) note("LINUX", kLayoutNote, places.bytes());
    if (!wide_) add_thread_areas(target_.view(id).registers());
  }

  void add_thread_areas(const state::RegisterSet& registers) {
    Blob blob;
    for (const auto& [selector, base] : {std::pair(Reg::gs, Reg::gs_base), std::pair(Reg::fs, Reg::fs_base)}) {
      if (registers[selector] == 0) continue;
      blob.number(registers[selector] >> 3, 4).number(registers[base], 4).number(0xfffff, 4).number(0x51, 4);
    }
    if (blob.size() != 0) note("LINUX", NT_386_TLS, blob.bytes());
  }

  // The file.

  bool put(Bytes bytes) {
    while (!bytes.empty()) {
      const ssize_t done = ::write(file_, bytes.data(), bytes.size());
      if (done < 0 && errno == EINTR) continue;
      if (done <= 0) return false;
      summary_.bytes += static_cast<std::uint64_t>(done);
      bytes = bytes.subspan(static_cast<std::size_t>(done));
    }
    return true;
  }

  void segment(Blob& out, std::uint32_t type, std::uint32_t flags, std::uint64_t offset, std::uint64_t address,
               std::uint64_t in_file, std::uint64_t size, std::uint64_t alignment) const {
    out.number(type, 4);
    if (wide_) out.number(flags, 4);
    out.number(offset, word_).number(address, word_).number(0, word_).number(in_file, word_).number(size, word_);
    if (!wide_) out.number(flags, 4);
    out.number(alignment, word_);
  }

  bool put_headers() {
    const std::size_t header = wide_ ? sizeof(Elf64_Ehdr) : sizeof(Elf32_Ehdr);
    const std::size_t entry = wide_ ? sizeof(Elf64_Phdr) : sizeof(Elf32_Phdr);
    const std::size_t section = wide_ ? sizeof(Elf64_Shdr) : sizeof(Elf32_Shdr);
    const std::size_t count = parts_.size() + 1;
    const bool many = count >= PN_XNUM;  // their number stands in a section header then (System V ABI, e_phnum)
    Blob out;
    out.number(0x464c457f, 4).number(wide_ ? ELFCLASS64 : ELFCLASS32, 1).number(ELFDATA2LSB, 1).number(EV_CURRENT, 1);
    out.fill_to(EI_NIDENT).number(ET_CORE, 2).number(wide_ ? EM_X86_64 : EM_386, 2).number(EV_CURRENT, 4);
    out.number(0, word_).number(header, word_).number(many ? header + entry * count : 0, word_).number(0, 4);
    out.number(header, 2).number(entry, 2).number(many ? PN_XNUM : count, 2).number(many ? section : 0, 2);
    out.number(many ? 1 : 0, 2).number(0, 2);
    std::uint64_t at = header + entry * count + (many ? section : 0);
    segment(out, PT_NOTE, 0, at, 0, notes_.size(), 0, 4);
    at = (at + notes_.size() + kPage - 1) / kPage * kPage;
    for (const Part& part : parts_) {
      const state::Mapping& mapping = part.mapping;
      const std::uint32_t flags =
          (mapping.readable ? PF_R : 0U) | (mapping.writable ? PF_W : 0U) | (mapping.executable ? PF_X : 0U);
      segment(out, PT_LOAD, flags, at, mapping.from, part.saved, mapping.to - mapping.from, kPage);
      at += part.saved;
    }
    if (many) {
      const std::size_t start = out.size();
      out.fill_to(start + (wide_ ? offsetof(Elf64_Shdr, sh_info) : offsetof(Elf32_Shdr, sh_info)));
      out.number(count, 4).fill_to(start + section);
    }
    out.all(notes_.bytes()).fill_to((out.size() + kPage - 1) / kPage * kPage);
    return put(out.bytes());
  }

  bool put_memory() {
    constexpr std::uint64_t kPiece = std::uint64_t(1) << 20;
    std::vector<std::uint8_t> bytes;
    for (const Part& part : parts_) {
      for (std::uint64_t at = 0; at < part.saved; at += bytes.size()) {
        bytes.assign(std::min(kPiece, part.saved - at), 0);
        const std::size_t got = view_.read_memory(part.mapping.from + at, bytes);
        summary_.unreadable += bytes.size() - got;
        if (!put(bytes)) return false;
      }
    }
    return true;
  }

  const CoreSource& source_;
  const state::Target& target_;
  const state::StateView& view_;
  bool wide_;
  std::size_t word_;
  int file_;
  std::vector<Part> parts_;
  Blob notes_;
  CoreSummary summary_;
};

}  // namespace

Result<CoreSummary> write_core(const CoreSource& source, const std::string& path) {
  const FileDescriptor file(::open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600));
  if (!file) {
    const bool exists = errno == EEXIST;
    return Error{Fault::usage, path + (exists ? ": exists already; name another file" : ": cannot be written: ") +
                                   (exists ? "" : std::strerror(errno))};
  }
  Writer writer(source, file.get());
  if (writer.write()) return writer.summary();
  const int problem = errno;
  ::unlink(path.c_str());
  return Error{Fault::usage, path + ": cannot be written: " + std::strerror(problem)};
}

}  // namespace deeptrace::corefile
