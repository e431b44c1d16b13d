#include "program/debug_file.h"

#include <zlib.h>

#include <filesystem>

#include "binary/compression.h"
#include "binary/loading.h"

namespace deeptrace::program {
namespace {

namespace fs = std::filesystem;
using binary::Elf;

constexpr const char* kSystemFolder = "/usr/lib/debug";

std::vector<std::string> with_system(const std::vector<std::string>& folders) {
  std::vector<std::string> all = folders;
  all.emplace_back(kSystemFolder);
  return all;
}

std::unique_ptr<Elf> opened(const fs::path& path) {
  std::error_code problem;
  if (!fs::is_regular_file(path, problem)) return nullptr;
  Result<Elf> elf = Elf::open(path.string());
  return elf ? std::make_unique<Elf>(std::move(*elf)) : nullptr;
}

std::unique_ptr<Elf> by_identity(const std::string& id, const std::vector<std::string>& folders) {
  if (id.size() < 3) return nullptr;
  for (const std::string& folder : with_system(folders)) {
    const fs::path path = fs::path(folder) / ".build-id" / id.substr(0, 2) / (id.substr(2) + ".debug");
    auto elf = opened(path);
    if (elf != nullptr && binary::loading_of(*elf).build_id == id) return elf;
  }
  return nullptr;
}

/// The checksum of .gnu_debuglink is zlib's, over the whole file.
std::uint32_t checksum_of(const std::string& path) {
  const Result<MappedFile> file = MappedFile::open(path);
  if (!file) return 0;
  uLong sum = crc32(0, nullptr, 0);
  Bytes rest = file->bytes();
  while (!rest.empty()) {
    const std::size_t part = std::min<std::size_t>(rest.size(), std::size_t(1) << 30);
    sum = crc32(sum, rest.data(), static_cast<uInt>(part));
    rest = rest.subspan(part);
  }
  return static_cast<std::uint32_t>(sum);
}

std::string hex_of(Bytes bytes) {
  constexpr std::string_view kDigits = "0123456789abcdef";
  std::string result;
  for (const std::uint8_t byte : bytes) {
    result += kDigits[byte >> 4];
    result += kDigits[byte & 15];
  }
  return result;
}

}  // namespace

std::unique_ptr<Elf> find_debug_file(const Elf& elf, const std::vector<std::string>& folders) {
  const std::string id = binary::loading_of(elf).build_id;
  if (auto found = by_identity(id, folders)) return found;
  const binary::Section* link = elf.section_named(".gnu_debuglink");
  if (link == nullptr) return nullptr;
  ByteReader reader(elf.bytes_of(*link));
  const std::string name(reader.string());
  reader.skip((4 - reader.position() % 4) % 4);
  const std::uint32_t checksum = reader.u32();
  if (!reader.good() || name.empty() || name.find('/') != std::string::npos) return nullptr;
  std::error_code problem;
  const fs::path file = fs::absolute(elf.path(), problem);
  std::vector<fs::path> places = {file.parent_path() / name, file.parent_path() / ".debug" / name};
  for (const std::string& folder : with_system(folders)) {
    places.push_back(fs::path(folder) / file.parent_path().relative_path() / name);
    places.push_back(fs::path(folder) / name);
  }
  for (const fs::path& place : places) {
    if (fs::equivalent(place, file, problem)) continue;
    auto found = opened(place);
    if (found != nullptr && checksum_of(place.string()) == checksum) return found;
  }
  return nullptr;
}

std::unique_ptr<Elf> find_supplementary_file(const Elf& elf, const std::vector<std::string>& folders) {
  const binary::Section* link = elf.section_named(".gnu_debugaltlink");
  if (link == nullptr) return nullptr;
  ByteReader reader(elf.bytes_of(*link));
  const std::string name(reader.string());
  if (!reader.good()) return nullptr;
  const std::string id = hex_of(reader.bytes(reader.remaining()));
  if (auto found = by_identity(id, folders)) return found;
  std::error_code problem;
  const fs::path beside = fs::absolute(elf.path(), problem).parent_path() / name;
  auto found = opened(beside);
  return found != nullptr && binary::loading_of(*found).build_id == id ? std::move(found) : nullptr;
}

std::unique_ptr<Elf> small_symbol_file(const Elf& elf) {
  const binary::Section* section = elf.section_named(".gnu_debugdata");
  if (section == nullptr) return nullptr;
  constexpr std::uint64_t kMost = std::uint64_t(1) << 27;
  auto bytes = binary::decompressed_xz(elf.bytes_of(*section), kMost);
  if (!bytes) return nullptr;
  Result<Elf> small = Elf::read(MappedFile::of(elf.path() + ", .gnu_debugdata", std::move(*bytes)));
  return small ? std::make_unique<Elf>(std::move(*small)) : nullptr;
}

}  // namespace deeptrace::program
