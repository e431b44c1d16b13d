// ELF files: headers, sections, segments, symbols and relocations (System V ABI, chapters 4 and 5; the x86-64
// supplement). Everything is a view into the mapped file; nothing is executed.
//
// Addresses. A linked file's addresses are the ones its headers give. In a relocatable object every section
// starts at 0, so the reader lays the allocated sections out one after the other and uses those addresses
// throughout; `section_offset` leads back to what the file says.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "arch/machine.h"
#include "base/mapped_file.h"
#include "base/result.h"
#include "binary/symbols.h"

namespace deeptrace::binary {

/// Section types and flags that the product asks for (System V ABI, figures 4-9 and 4-11).
enum SectionType : std::uint32_t { kSymbolTable = 2, kRela = 4, kNoBits = 8, kRel = 9, kDynamicSymbols = 11 };
enum SectionFlag : std::uint64_t {
  kWritable = 1,
  kAllocated = 2,
  kExecutable = 4,
  kMerge = 0x10,
  kStrings = 0x20,
  kThreadStorage = 0x400,
  kCompressed = 0x800
};
enum class Kind { relocatable, executable, position_independent, shared_library, core };

struct Section {
  std::string_view name;
  std::uint32_t type = 0;
  std::uint64_t flags = 0;
  std::uint64_t address = 0;  ///< where the reader sees it (see above)
  std::uint64_t offset = 0;   ///< in the file
  std::uint64_t size = 0;     ///< bytes
  std::uint32_t link = 0;
  std::uint32_t info = 0;
  std::uint64_t alignment = 0;
  std::uint64_t entry_size = 0;
  std::uint32_t index = 0;

  [[nodiscard]] bool is_code() const { return (flags & kExecutable) != 0 && (flags & kAllocated) != 0; }
  [[nodiscard]] bool holds(std::uint64_t a) const {
    return (flags & kAllocated) != 0 && a >= address && a - address < size;
  }
};

/// Types of segments (System V ABI, "Program Header"; the last two are GNU's).
enum SegmentType : std::uint32_t {
  kLoadSegment = 1,
  kDynamicSegment = 2,
  kInterpreterSegment = 3,
  kNoteSegment = 4,
  kThreadSegment = 7,  ///< initial values of thread-local variables
  kStackSegment = 0x6474e551,
  kReadOnlyAfterwardsSegment = 0x6474e552,
};

struct Segment {
  std::uint32_t type = 0;
  std::uint32_t flags = 0;  ///< 1 executable, 2 writable, 4 readable
  std::uint64_t offset = 0;
  std::uint64_t address = 0;
  std::uint64_t file_size = 0;    ///< bytes
  std::uint64_t memory_size = 0;  ///< bytes
  std::uint64_t alignment = 0;    ///< bytes
};

struct Relocation {
  std::uint64_t address = 0;
  std::uint32_t type = 0;
  std::int64_t addend = 0;
  std::string_view symbol;         ///< a section symbol goes by its section's name
  std::uint64_t symbol_value = 0;  ///< its address; meaningless when undefined
  bool defined = false;
  bool local = false;  ///< the symbol is not seen outside the file
  bool section_symbol = false;
  std::uint32_t section = 0;  ///< of the symbol, when defined
};

/// Bytes that are either a view into the file or a copy of their own.
struct SectionBytes {
  std::vector<std::uint8_t> owned;
  Bytes view;
};

class Elf {
 public:
  /// Opens an ELF file for x86, of 64 or 32 bits; "libtide.a(levels.o)" is a member of an archive. Errors
  /// (Fault::input) name the file, the structure and its offset: not ELF, truncated, another machine or byte order; a
  /// core file unless `cores` lets it through.
  static Result<Elf> open(const std::string& path, bool cores = false);
  /// Reads bytes that are an ELF file.
  static Result<Elf> read(MappedFile file, bool cores = false);

  [[nodiscard]] const std::string& path() const { return file_.path(); }
  /// Bytes of the whole file.
  [[nodiscard]] std::uint64_t file_size() const { return file_.bytes().size(); }
  /// Where the file's own headers lie in it: the ELF header, program headers, section headers.
  struct FileRange {
    std::uint64_t offset = 0, size = 0;  ///< bytes
  };
  [[nodiscard]] const std::array<FileRange, 3>& headers() const { return headers_; }
  [[nodiscard]] Kind kind() const { return kind_; }
  /// True for a file of 64 bits.
  [[nodiscard]] bool wide() const { return wide_; }
  /// The processor that the file is for.
  [[nodiscard]] const arch::Machine& machine() const {
    return arch::machine_of(wide_ ? arch::Mode::bits64 : arch::Mode::bits32);
  }
  [[nodiscard]] std::uint64_t entry() const { return entry_; }
  [[nodiscard]] const std::vector<Section>& sections() const { return sections_; }
  [[nodiscard]] const std::vector<Segment>& segments() const { return segments_; }
  /// Symbols of the symbol table, or, where that was stripped, of the dynamic one.
  [[nodiscard]] const SymbolTable& symbols() const { return symbols_; }
  [[nodiscard]] bool has_symbol_table() const { return has_symbol_table_; }
  /// Takes over the symbols of a file with the same sections, which must stay: that of separate debug information. This
  /// one's own stay in front.
  void add_symbols_of(const Elf& other);

  [[nodiscard]] const Section* section_named(std::string_view name) const;
  /// The address of the global offset table, that 32-bit position-independent code counts from: .got.plt, else .got
  /// (i386 ABI, 4.4); 0 when the file has neither.
  [[nodiscard]] std::uint64_t offset_table() const;
  /// The allocated section at an address, or null.
  [[nodiscard]] const Section* section_at(std::uint64_t address) const;
  /// A section's bytes in the file; empty for one without (bss).
  [[nodiscard]] Bytes bytes_of(const Section& section) const;
  /// A segment's bytes as far as the file has them.
  [[nodiscard]] Bytes bytes_of(const Segment& segment) const;
  /// A debug section's bytes, unpacked where they are compressed, with the relocations of an object file applied; empty
  /// when absent or damaged.
  [[nodiscard]] SectionBytes debug_bytes(std::string_view name) const;
  /// The file's bytes at an address, up to the end of their section; empty where there are none.
  [[nodiscard]] Bytes bytes_at(std::uint64_t address) const;
  /// All relocations of allocated sections, by address.
  [[nodiscard]] std::vector<Relocation> relocations() const;
  /// The address relative to its section in a relocatable object; the address itself otherwise.
  [[nodiscard]] std::uint64_t section_offset(std::uint64_t address) const;

 private:
  explicit Elf(MappedFile file) : file_(std::move(file)) {}
  std::optional<Error> read_headers(bool cores);
  std::optional<Error> read_sections(std::uint64_t at, std::uint64_t count, std::uint64_t entry_size,
                                     std::uint32_t names);
  std::optional<Error> read_segments(std::uint64_t at, std::uint64_t count, std::uint64_t entry_size);
  void lay_out();
  [[nodiscard]] bool is_named_library() const;
  void read_symbols();
  /// An address or size: as wide as the file.
  std::uint64_t word(ByteReader& reader) const;
  [[nodiscard]] Error broken(std::string_view what, std::uint64_t offset) const;
  [[nodiscard]] std::vector<Relocation> relocations_of(const Section& table) const;
  void add_relocations(const Section& table, std::vector<Relocation>& to) const;
  [[nodiscard]] SectionBytes unpacked(const Section& section) const;

  MappedFile file_;
  Kind kind_ = Kind::executable;
  std::uint64_t entry_ = 0;
  std::vector<Section> sections_;
  std::vector<Segment> segments_;
  SymbolTable symbols_;
  std::array<FileRange, 3> headers_{};
  bool has_symbol_table_ = false;
  bool wide_ = true;
};

}  // namespace deeptrace::binary
