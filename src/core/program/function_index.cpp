#include "program/function_index.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <filesystem>

#include "base/file_descriptor.h"

namespace deeptrace::program {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kMagic = 0x31786469'64746c66;  // the form of the file; a new one gets another

/// What must be the same for an index to fit.
struct Identity {
  std::uint64_t device = 0, inode = 0, size = 0, seconds = 0, nanoseconds = 0;
  bool operator==(const Identity&) const = default;
};

std::optional<Identity> identity_of(const std::string& path) {
  struct stat status {};
  if (::stat(path.c_str(), &status) != 0) return std::nullopt;
  return Identity{status.st_dev, status.st_ino, static_cast<std::uint64_t>(status.st_size),
                  static_cast<std::uint64_t>(status.st_mtim.tv_sec),
                  static_cast<std::uint64_t>(status.st_mtim.tv_nsec)};
}

/// $XDG_CACHE_HOME/deeptrace, or ~/.cache/deeptrace (XDG Base Directory Specification).
std::optional<fs::path> cache_folder() {
  const char* cache = std::getenv("XDG_CACHE_HOME");
  if (cache != nullptr && *cache == '/') return fs::path(cache) / "deeptrace";
  const char* home = std::getenv("HOME");
  if (home != nullptr && *home == '/') return fs::path(home) / ".cache" / "deeptrace";
  return std::nullopt;
}

std::optional<fs::path> place_of(const std::string& path) {
  const auto folder = cache_folder();
  std::error_code problem;
  const fs::path whole = fs::weakly_canonical(path, problem);
  if (!folder || problem) return std::nullopt;
  std::uint64_t hash = 0xcbf29ce484222325;  // FNV-1a
  for (const char c : whole.string()) hash = (hash ^ static_cast<unsigned char>(c)) * 0x100000001b3;
  char name[40];
  std::snprintf(name, sizeof name, "functions-%016llx.index", static_cast<unsigned long long>(hash));
  return *folder / name;
}

/// The strings that the symbols' names lie in.
Bytes strings_of(const binary::Elf& elf) {
  for (const binary::Section& section : elf.sections()) {
    if (section.type == binary::kSymbolTable && section.link < elf.sections().size())
      return elf.bytes_of(elf.sections()[section.link]);
  }
  return {};
}

template <typename T>
bool take(Bytes& from, std::uint64_t count, std::span<const T>& into) {
  if (count > from.size() / sizeof(T)) return false;
  into = {reinterpret_cast<const T*>(from.data()), static_cast<std::size_t>(count)};
  from = from.subspan(count * sizeof(T));
  return true;
}

/// A new file; a write that fails makes it bad.
struct FileWriter {
  explicit FileWriter(const std::string& path)
      : file(::open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600)), good(file) {}
  void write(const void* data, std::size_t size) {
    for (const auto* at = static_cast<const char*>(data); good && size > 0;) {
      const ssize_t wrote = ::write(file.get(), at, size);
      good = wrote > 0;
      if (!good) return;
      at += wrote;
      size -= static_cast<std::size_t>(wrote);
    }
  }
  void write_first(const void* data, std::size_t size) {
    good = good && ::pwrite(file.get(), data, size, 0) == static_cast<ssize_t>(size);
  }

  FileDescriptor file;
  bool good;
};

}  // namespace

struct FunctionIndex::Header {
  std::uint64_t magic = kMagic;
  Identity identity;
  std::uint64_t rows = 0, names = 0, labels = 0, own_names = 0;  ///< numbers; bytes of own names
};

std::shared_ptr<const FunctionIndex> FunctionIndex::find(const binary::Elf& elf) {
  const auto place = place_of(elf.path());
  if (!place) return nullptr;
  Result<MappedFile> file = MappedFile::open(place->string());
  if (!file) return nullptr;
  std::shared_ptr<FunctionIndex> index(new FunctionIndex(std::move(*file)));
  return index->read(elf) ? index : nullptr;
}

bool FunctionIndex::read(const binary::Elf& elf) {
  Bytes rest = file_.bytes();
  Header header;
  if (rest.size() < sizeof header) return false;
  std::memcpy(&header, rest.data(), sizeof header);
  rest = rest.subspan(sizeof header);
  const auto identity = identity_of(elf.path());
  if (header.magic != kMagic || !identity || *identity != header.identity) return false;
  if (!take(rest, header.rows, rows_) || !take(rest, header.names, names_) || !take(rest, header.labels, labels_))
    return false;
  if (header.own_names != rest.size() || (!rest.empty() && rest.back() != 0)) return false;
  own_names_ = rest;
  strings_ = strings_of(elf);
  sections_ = elf.sections().size();
  return !strings_.empty() && strings_.back() == 0;
}

std::string_view FunctionIndex::own_name(std::uint32_t offset) const { return string_at(own_names_, offset); }

Function FunctionIndex::function(std::size_t number) const {
  const Row& row = rows_[number];
  Function function;
  function.origin = static_cast<Function::Origin>(std::min<std::uint8_t>(row.origin, 3));
  function.typed = row.typed != 0;
  function.section = row.section < sections_ ? row.section : 0;
  function.address = row.address;
  function.size = row.size;
  if (function.origin != Function::Origin::symbol) {
    function.name = std::string(own_name(row.name));
  } else if (row.name < strings_.size()) {
    function.name = LazyName::of_symbol(reinterpret_cast<const char*>(strings_.data() + row.name));
  }
  return function;
}

std::size_t FunctionIndex::at_or_before(std::uint64_t address) const {
  return static_cast<std::size_t>(std::ranges::upper_bound(rows_, address, {}, &Row::address) - rows_.begin());
}

std::vector<Label> FunctionIndex::labels() const {
  std::vector<Label> result;
  for (const LabelRow& row : labels_) result.push_back({row.address, string_at(strings_, row.name)});
  return result;
}

std::vector<std::size_t> FunctionIndex::with_word(std::string_view word) const {
  std::vector<std::size_t> result;
  const std::string_view all(reinterpret_cast<const char*>(strings_.data()), strings_.size());
  std::size_t done = 0;  // names up to here were looked at
  for (const char* at = all.data(); at != nullptr;) {
    at = static_cast<const char*>(
        ::memmem(at, static_cast<std::size_t>(all.data() + all.size() - at), word.data(), word.size()));
    if (at == nullptr) break;
    const auto found = static_cast<std::size_t>(at - all.data());
    // Names that end alike share their bytes: all that begin in this string, up to the word, hold it.
    const std::size_t zero = found == 0 ? std::string_view::npos : all.rfind('\0', found);
    const std::size_t start = std::max(done, zero == std::string_view::npos ? 0 : zero + 1);
    auto name = std::ranges::lower_bound(names_, start, {}, &NamedRow::name);
    for (; name != names_.end() && name->name <= found; ++name) result.push_back(name->number);
    done = found + 1;
    ++at;
  }
  std::ranges::sort(result);
  std::erase_if(result, [this](std::size_t number) { return number >= rows_.size(); });
  return result;
}

void FunctionIndex::keep(const binary::Elf& elf, const FunctionList& functions, std::span<const Label> labels) {
  const auto place = place_of(elf.path());
  const auto identity = identity_of(elf.path());
  const Bytes strings = strings_of(elf);
  if (!place || !identity || strings.empty() || strings.back() != 0 || elf.sections().size() > 0xffff) return;
  std::error_code problem;
  fs::create_directories(place->parent_path(), problem);
  // Written beside it first: another process may be reading the old one.
  const std::string beside = place->string() + "." + std::to_string(::getpid());
  FileWriter file(beside);
  Header header;
  header.identity = *identity;
  header.rows = functions.size();
  file.write(&header, sizeof header);
  std::vector<Row> rows;  // a few at a time: they are many
  std::vector<NamedRow> names;
  std::string own_names(1, '\0');
  const auto* const first = reinterpret_cast<const char*>(strings.data());
  std::uint32_t number = 0;
  for (const Function& function : functions) {
    Row row;
    row.address = function.address;
    row.size = static_cast<std::uint32_t>(function.size);
    row.section = static_cast<std::uint16_t>(function.section);
    row.origin = static_cast<std::uint8_t>(function.origin);
    row.typed = function.typed ? 1 : 0;
    file.good &= function.size <= 0xffffffff;
    if (function.origin == Function::Origin::symbol) {
      const char* name = function.name.symbol().data();
      file.good &= name >= first && name < first + strings.size();  // another file's symbols are not kept
      row.name = static_cast<std::uint32_t>(name - first);
      names.push_back({row.name, number});
    } else {
      row.name = static_cast<std::uint32_t>(own_names.size());
      own_names += function.name.str();
      own_names += '\0';
    }
    ++number;
    rows.push_back(row);
    constexpr std::size_t kAtOnce = 4096;
    if (rows.size() < kAtOnce) continue;
    file.write(rows.data(), rows.size() * sizeof(Row));
    rows.clear();
  }
  file.write(rows.data(), rows.size() * sizeof(Row));
  std::ranges::sort(names, {}, &NamedRow::name);
  std::vector<LabelRow> label_rows;
  for (const Label& label : labels)
    label_rows.push_back({label.address, static_cast<std::uint64_t>(label.name.data() - first)});
  header.names = names.size();
  header.labels = label_rows.size();
  header.own_names = own_names.size();
  file.write(names.data(), names.size() * sizeof(NamedRow));
  file.write(label_rows.data(), label_rows.size() * sizeof(LabelRow));
  file.write(own_names.data(), own_names.size());
  file.write_first(&header, sizeof header);
  if (file.good) fs::rename(beside, *place, problem);
  if (!file.good || problem) fs::remove(beside, problem);
}

}  // namespace deeptrace::program
