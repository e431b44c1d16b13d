// Core files that a test makes up, byte by byte as core(5) and <linux/elfcore.h> have them: what readers of core files
// do is tried without a kernel that writes them.
#pragma once

#include <cstdint>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <string>
#include <utility>
#include <vector>

namespace deeptrace::tests {

/// Bytes that grow by numbers, little-endian.
class Blob {
 public:
  std::vector<std::uint8_t> bytes;
  Blob& number(std::uint64_t value, std::size_t size) {
    for (std::size_t i = 0; i < size; ++i) bytes.push_back(i < 8 ? static_cast<std::uint8_t>(value >> (8 * i)) : 0);
    return *this;
  }
  Blob& text(const std::string& value) {
    bytes.insert(bytes.end(), value.begin(), value.end());
    bytes.push_back(0);
    return *this;
  }
  Blob& all(const std::vector<std::uint8_t>& more) {
    bytes.insert(bytes.end(), more.begin(), more.end());
    return *this;
  }
  Blob& fill_to(std::size_t size) {
    if (bytes.size() < size) bytes.resize(size);
    return *this;
  }
};

class FakeCore {
 public:
  explicit FakeCore(bool wide) : wide_(wide), word_(wide ? 8 : 4) {}

  Blob notes;
  struct Memory {
    std::uint64_t address;
    std::vector<std::uint8_t> saved;
    std::uint64_t size;       ///< bytes when the program ran
    std::uint32_t flags = 5;  ///< 1 executable, 2 writable, 4 readable
  };
  std::vector<Memory> memory;
  bool many = false;  ///< the number of segments stands in a section header (PN_XNUM)

  void note(const std::string& owner, std::uint32_t type, const std::vector<std::uint8_t>& contents) {
    notes.number(owner.size() + 1, 4).number(contents.size(), 4).number(type, 4).text(owner);
    notes.fill_to((notes.bytes.size() + 3) / 4 * 4).all(contents);
    notes.fill_to((notes.bytes.size() + 3) / 4 * 4);
  }
  /// NT_PRSTATUS, with the registers in the kernel's order.
  void thread(std::uint32_t id, const std::vector<std::uint64_t>& registers) {
    Blob blob;
    blob.fill_to(wide_ ? 32 : 24).number(id, 4).fill_to(wide_ ? 112 : 72);
    for (const std::uint64_t value : registers) blob.number(value, word_);
    blob.number(1, word_);
    note("CORE", 1, blob.bytes);
  }
  /// NT_PRPSINFO.
  void process(std::uint32_t id, const std::string& name) {
    Blob blob;
    blob.fill_to(wide_ ? 24 : 12).number(id, 4).fill_to(wide_ ? 40 : 28).text(name).fill_to(wide_ ? 136 : 124);
    note("CORE", 3, blob.bytes);
  }
  /// NT_SIGINFO.
  void signal(std::uint32_t number, std::uint32_t code, std::uint64_t address) {
    Blob blob;
    blob.number(number, 4).number(0, 4).number(code, 4).fill_to(wide_ ? 16 : 12).number(address, word_).fill_to(128);
    note("CORE", 0x53494749, blob.bytes);
  }
  /// NT_AUXV.
  void auxiliary(const std::vector<std::pair<std::uint64_t, std::uint64_t>>& entries) {
    Blob blob;
    for (const auto& [type, value] : entries) blob.number(type, word_).number(value, word_);
    blob.number(0, 2 * word_);
    note("CORE", 6, blob.bytes);
  }
  struct File {
    std::uint64_t from, to, page;
    std::string path;
  };
  /// NT_FILE.
  void files(const std::vector<File>& all) {
    Blob blob;
    blob.number(all.size(), word_).number(4096, word_);
    for (const File& file : all) blob.number(file.from, word_).number(file.to, word_).number(file.page, word_);
    for (const File& file : all) blob.text(file.path);
    note("CORE", 0x46494c45, blob.bytes);
  }

  [[nodiscard]] std::vector<std::uint8_t> bytes() const {
    const std::size_t header = wide_ ? 64 : 52, entry = wide_ ? 56 : 32, section = wide_ ? 64 : 40;
    const std::size_t count = memory.size() + 1, extra = many ? section : 0;
    std::uint64_t at = header + entry * count + extra;
    Blob out;
    out.number(0x464c457f, 4).number(wide_ ? 2 : 1, 1).number(1, 1).number(1, 1).fill_to(16);
    out.number(4, 2).number(wide_ ? 62 : 3, 2).number(1, 4).number(0, word_).number(header, word_);
    out.number(many ? header + entry * count : 0, word_).number(0, 4).number(header, 2).number(entry, 2);
    out.number(many ? 0xffff : count, 2).number(section, 2).number(many ? 1 : 0, 2).number(0, 2);
    segment(out, 4, 0, at, 0, notes.bytes.size(), 0, 4);
    at += notes.bytes.size();
    for (const Memory& one : memory) {
      segment(out, 1, one.flags, at, one.address, one.saved.size(), one.size, 4096);
      at += one.saved.size();
    }
    if (many) {
      Blob first;
      first.fill_to(wide_ ? 44 : 28).number(count, 4).fill_to(section);
      out.all(first.bytes);
    }
    out.all(notes.bytes);
    for (const Memory& one : memory) out.all(one.saved);
    return out.bytes;
  }

  void write(const std::filesystem::path& path) const {
    const std::vector<std::uint8_t> all = bytes();
    std::ofstream(path, std::ios::binary)
        .write(reinterpret_cast<const char*>(all.data()), static_cast<std::streamsize>(all.size()));
  }

 private:
  void segment(Blob& out, std::uint32_t type, std::uint32_t flags, std::uint64_t offset, std::uint64_t address,
               std::uint64_t in_file, std::uint64_t size, std::uint64_t alignment) const {
    out.number(type, 4);
    if (wide_) out.number(flags, 4);
    out.number(offset, word_).number(address, word_).number(0, word_).number(in_file, word_).number(size, word_);
    if (!wide_) out.number(flags, 4);
    out.number(alignment, word_);
  }

  bool wide_;
  std::size_t word_;
};

}  // namespace deeptrace::tests
