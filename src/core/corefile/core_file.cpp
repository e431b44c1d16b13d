#include "corefile/core_file.h"

#include <algorithm>
#include <cstring>

#include "binary/notes.h"

namespace deeptrace::corefile {

/// A thread at its end.
class CoreFile::View final : public state::StateView {
 public:
  View(const CoreFile& core, const ThreadNotes& thread) : core_(core), thread_(thread) {}
  [[nodiscard]] isa::Mode mode() const override { return state::mode_of(thread_.registers); }
  [[nodiscard]] const state::RegisterSet& registers() const override { return thread_.registers; }
  [[nodiscard]] std::optional<state::ExtendedSet> extended() const override { return thread_.extended; }
  void read_memory(std::span<state::MemoryRequest> requests, state::Provenance /*provenance*/) const override {
    for (state::MemoryRequest& request : requests) request.got = core_.read(request.address, request.into);
  }
  [[nodiscard]] std::string_view why_unreadable(std::uint64_t address) const override {
    return core_.why_unreadable(address);
  }

 private:
  const CoreFile& core_;
  const ThreadNotes& thread_;
};

namespace {

/// The build identity in the beginning of a file as it was loaded.
std::string build_id_in(Bytes start, bool wide) {
  const std::size_t word = wide ? 8 : 4;
  ByteReader header(start, wide ? 32 : 28);
  const std::uint64_t segments_at = header.unsigned_of(word);
  header = ByteReader(start, wide ? 54 : 42);
  const std::uint16_t size = header.u16(), count = header.u16();
  for (std::uint16_t i = 0; header.good() && i < count; ++i) {
    ByteReader segment(start, segments_at + std::uint64_t(i) * size);
    const std::uint32_t type = segment.u32();
    if (wide) segment.skip(4);
    const std::uint64_t offset = segment.unsigned_of(word);
    segment.skip(2 * word);
    const std::uint64_t bytes = segment.unsigned_of(word);
    segment.skip(word + (wide ? 0 : 4));
    const std::uint64_t alignment = segment.unsigned_of(word);
    if (!segment.good() || type != binary::kNoteSegment || offset > start.size()) continue;
    const Bytes content = start.subspan(offset, std::min<std::uint64_t>(bytes, start.size() - offset));
    if (std::string id = binary::build_id_among(binary::notes_in(content, alignment).all); !id.empty()) return id;
  }
  return {};
}

}  // namespace

CoreFile::CoreFile(binary::Elf core) : core_(std::move(core)) {}
CoreFile::~CoreFile() = default;

Result<std::unique_ptr<CoreFile>> CoreFile::open(const std::string& path, const std::string& program) {
  Result<binary::Elf> elf = binary::Elf::open(path, true);
  if (!elf) return elf.error();
  if (elf->kind() != binary::Kind::core) return Error{Fault::input, path + ": is a program, not a core file"};
  std::unique_ptr<CoreFile> core(new CoreFile(std::move(*elf)));
  if (auto error = core->begin(program)) return *error;
  return core;
}

std::optional<Error> CoreFile::begin(const std::string& program) {
  notes_ = read_notes(core_);
  remarks_ = notes_.remarks;
  if (notes_.threads.empty())
    return Error{Fault::input, core_.path() + ": has no thread's registers; it is damaged, or cut off before them"};
  for (const ThreadNotes& thread : notes_.threads) views_.push_back(std::make_unique<View>(*this, thread));
  threads_ = numbered_threads(notes_);
  regions_ = regions_of(core_, notes_);
  std::uint64_t missing = 0;
  for (const Region& region : regions_) missing += region.missing;
  if (missing != 0)
    remarks_.push_back("the core file is cut off: " + std::to_string(missing) + " bytes of memory are missing");
  if (auto error = find_program(program)) return error;
  return find_files(!program.empty());
}

std::optional<Error> CoreFile::find_program(const std::string& given) {
  const auto entry = auxiliary(state::Auxiliary::entry);
  if (!entry)
    return Error{Fault::input, core_.path() + ": has no auxiliary vector, so that where its program lies is not known"};
  mapped_program_ = program_path(regions_, notes_);
  program_ = given.empty() ? mapped_program_ : given;
  if (program_.empty())
    return Error{Fault::usage, core_.path() + ": does not say which program it is of" +
                                   (notes_.name.empty() ? "" : " (" + notes_.name + ")") +
                                   "; name it after the core file"};
  if (!mapped_program_.empty()) return std::nullopt;
  // Where the files are not named, the program's own segments are.
  Result<binary::Elf> elf = binary::Elf::open(program_);
  if (!elf) return elf.error();
  mapped_program_ = program_.starts_with('/') ? program_ : "/" + program_;
  const std::uint64_t bias = *entry - elf->entry();
  for (const binary::Segment& segment : elf->segments()) {
    for (Region& one : regions_) {
      const std::uint64_t start = one.mapping.from - bias;
      if (segment.type != binary::kLoadSegment || start < segment.address / 4096 * 4096 ||
          start >= segment.address + segment.memory_size || !one.mapping.path.empty())
        continue;
      one.mapping.path = mapped_program_;
      one.mapping.offset = segment.offset + start - segment.address;
    }
  }
  remarks_.emplace_back("the core file does not say which files were mapped: libraries are not known");
  return std::nullopt;
}

std::optional<Error> CoreFile::find_files(bool given) {
  region_files_.resize(regions_.size());
  for (std::size_t i = 0; i < regions_.size(); ++i) {
    const std::string& path = regions_[i].mapping.path;
    if (!path.starts_with('/')) continue;
    auto known = std::ranges::find_if(files_, [&](const auto& file) { return file->path == path; });
    if (known == files_.end()) {
      files_.push_back(std::make_unique<File>());
      files_.back()->path = path;
      const bool program = path == mapped_program_;
      open_file(*files_.back(), program ? program_ : path, program && given);
      known = files_.end() - 1;
      if (program && !given && !(*known)->bytes)
        return Error{Fault::input, remarks_.back() + "; name the right program after the core file"};
    }
    region_files_[i] = known->get();
  }
  return std::nullopt;
}

/// What the core file has of the beginning of a file that was mapped.
Bytes CoreFile::saved_start(const std::string& path) const {
  for (const Region& region : regions_) {
    if (region.mapping.path == path && region.mapping.offset == 0) return region.saved;
  }
  return {};
}

/// Opens a file if it is proved to be the one that ran.
void CoreFile::open_file(File& file, const std::string& path, bool given) {
  constexpr std::size_t kPage = 4096;
  const auto is_elf = [](Bytes bytes) {
    return bytes.size() >= 4 && std::memcmp(bytes.data(),
                                            "\x7f"
                                            "ELF",
                                            4) == 0;
  };
  const Bytes start = saved_start(file.path);
  Result<MappedFile> opened = MappedFile::open(path);
  if (!opened) {
    if (is_elf(start) || path == program_)
      remarks_.push_back(path + ": is not here; what the core file leaves out of it is not known");
    return;
  }
  const Bytes bytes = opened->bytes();
  // A file of another kind has no identity, and may have changed since.
  if (!is_elf(bytes) || (!start.empty() && !is_elf(start))) {
    if (path == program_) remarks_.push_back(path + ": is not the program that ran");
    return;
  }
  const std::string ran = build_id_in(start, core_.wide());
  const std::size_t compared = std::min({start.size(), bytes.size(), kPage});
  const bool same_start = compared == 0 || std::memcmp(start.data(), bytes.data(), compared) == 0;
  if (!ran.empty() ? ran != build_id_in(bytes, core_.wide()) : !same_start) {
    file.other_build = true;
    remarks_.push_back(path + ": is another build than the one that ran" +
                       (ran.empty() ? "" : " (build id " + ran + ")") +
                       (given ? "; names and lines may be wrong" : ", so it is not used"));
    return;
  }
  if (start.empty()) {
    remarks_.push_back(path + ": is taken to be the file that ran; the core file has nothing of it to compare");
  } else if (ran.empty()) {
    remarks_.push_back(path + ": has no build id; its first page is as in the core file");
  }
  file.bytes = std::move(*opened);
}

std::size_t CoreFile::read(std::uint64_t address, std::span<std::uint8_t> into) const {
  std::size_t got = 0;
  while (got < into.size()) {
    const Region* region = region_at(regions_, address + got);
    if (region == nullptr) break;
    const std::uint64_t at = address + got - region->mapping.from;
    const File* file = region_files_[static_cast<std::size_t>(region - regions_.data())];
    Bytes from;
    if (at < region->saved.size()) {
      from = region->saved.subspan(at);
    } else if (file != nullptr && file->bytes) {
      // The page that the file ends in was filled up with zeros; they are not in the file.
      const Bytes all = file->bytes->bytes();
      const std::uint64_t offset = region->mapping.offset + at;
      if (offset < all.size())
        from = all.subspan(offset, std::min<std::uint64_t>(all.size() - offset, region->mapping.to - address - got));
    }
    const std::size_t size = std::min(from.size(), into.size() - got);
    if (size == 0) break;
    std::memcpy(into.data() + got, from.data(), size);
    got += size;
  }
  return got;
}

std::string_view CoreFile::why_unreadable(std::uint64_t address) const {
  return region_at(regions_, address) != nullptr ? "was mapped, but is not in the core file" : "cannot be read";
}

const ThreadNotes* CoreFile::find(state::ThreadId thread) const {
  const auto found = std::ranges::find(notes_.threads, thread, &ThreadNotes::id);
  return found != notes_.threads.end() ? &*found : nullptr;
}

const state::StateView& CoreFile::view(state::ThreadId thread) const {
  return *views_[static_cast<std::size_t>(find(thread) - notes_.threads.data())];
}

std::vector<state::Mapping> CoreFile::mappings() const {
  std::vector<state::Mapping> result;
  for (std::size_t i = 0; i < regions_.size(); ++i) {
    result.push_back(regions_[i].mapping);
    if (region_files_[i] != nullptr && region_files_[i]->other_build) result.back().path += " (another build)";
  }
  return result;
}

std::optional<std::uint64_t> CoreFile::auxiliary(state::Auxiliary type) const {
  for (const auto& [key, value] : notes_.auxiliary) {
    if (key == static_cast<std::uint64_t>(type)) return value;
  }
  return std::nullopt;
}

std::optional<state::PendingSignal> CoreFile::pending_signal(state::ThreadId thread) const {
  return thread == signalled() ? notes_.signal : std::nullopt;
}

std::optional<std::uint64_t> CoreFile::system_call(state::ThreadId thread) const {
  const ThreadNotes* notes = find(thread);
  if (notes == nullptr || !notes->system_call) return std::nullopt;
  const std::uint64_t raw = notes->registers[state::Reg::rax];
  const std::int64_t result = core_.wide() ? static_cast<std::int64_t>(raw) : static_cast<std::int32_t>(raw);
  return state::broken_off(result) ? notes->system_call : std::nullopt;
}

}  // namespace deeptrace::corefile
