// What several tests need: running programs, temporary folders, small parsers of other tools' output.
#pragma once

#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

namespace deeptrace::tests {

struct Outcome {
  int status = -1;  ///< exit status; 128 + signal when it was ended by one
  std::string out, err;
};

/// Runs a program and waits for it.
Outcome run(const std::vector<std::string>& words);
/// The same for the deeptrace under test.
Outcome deeptrace(std::vector<std::string> words);

/// Starts the deeptrace under test without waiting; its outputs go to files in `folder`. With `delay` it is the one
/// that is slow at a place (process/delay.h).
pid_t start_deeptrace(const std::vector<std::string>& words, const std::filesystem::path& folder,
                      const std::string& delay = "");

class TempFolder {
 public:
  TempFolder();
  ~TempFolder();
  TempFolder(const TempFolder&) = delete;
  TempFolder& operator=(const TempFolder&) = delete;
  [[nodiscard]] std::filesystem::path operator/(const std::string& name) const { return path_ / name; }
  [[nodiscard]] const std::filesystem::path& path() const { return path_; }

 private:
  std::filesystem::path path_;
};

std::string read_file(const std::filesystem::path& path);
void write_file(const std::filesystem::path& path, const std::string& text);

/// Paths that the build gives.
std::string demo(const std::string& name);
std::string fixture(const std::string& name);
std::string source(const std::string& name);

/// One instruction that the assembler wrote, from its listing (`as -aln`): section, offset and bytes, and the source
/// line of the last .loc before it (0: none).
struct Assembled {
  std::string section;
  std::uint64_t offset = 0;
  std::string bytes;     ///< plain hexadecimal digits
  std::string function;  ///< the last function label before it
  std::uint64_t function_offset = 0;
  std::string file;  ///< of that .loc, without its folder
  unsigned line = 0;
  bool starts = false;  ///< a .loc stands directly before it
};

/// A program or part of one that comes with a Debian package as source.
struct RealSource {
  std::string path;
  std::vector<std::string> options;  ///< that the compiler needs, libraries last
  [[nodiscard]] bool is_cxx() const { return !path.ends_with(".c"); }
};
/// Programs (C with zlib, zstd, lzma and png; C++ with fmt, nlohmann-json and cxxopts, which are sources themselves),
/// and GoogleTest's own sources without a main function. Where a machine keeps no documentation the C ones are fewer.
/// C++ files are written into `folder`.
std::vector<RealSource> real_programs(const TempFolder& folder);
std::vector<RealSource> real_parts();

/// Assembles a compiler's output and reads the assembler's listing. Data and padding are left out.
std::vector<Assembled> assemble_with_listing(const std::filesystem::path& assembly,
                                             const std::filesystem::path& object);

/// Assembles with the options that the assembler form asks for; the bytes of .text. `mode` is "--64" or "--32".
std::vector<std::uint8_t> assembled_text(const std::string& source, const std::string& mode);

}  // namespace deeptrace::tests
