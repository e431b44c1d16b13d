// The work of `data`: the variables of a file's data sections, with their initial values, as rows into a sink.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/result.h"
#include "inspect/value.h"
#include "program/program.h"

namespace deeptrace::study {

struct DataRequest {
  std::vector<std::string> names;       ///< variables, with .member and [index], or addresses; empty: all own ones
  std::optional<inspect::Shape> shape;  ///< read them so, whatever their type
  bool all = false;                     ///< those of libraries and of start-up code too
};

struct DataRow {
  std::string name;
  std::uint64_t address = 0;  ///< in an object file: within its section; of a thread's own: in the file
  std::string_view section;
  std::uint64_t size = 0;  ///< bytes; 0 when the file does not say
  std::string type;        ///< empty when unknown
  std::string_view file;   ///< of its declaration; empty when unknown
  std::uint32_t line = 0;
  bool in_thread = false;  ///< each thread begins with a copy
  bool writable = false;
  inspect::Value value;
};

struct DataFile {
  const program::Program* program = nullptr;
  std::size_t variables = 0;      ///< that will come
  std::size_t variables_all = 0;  ///< in the file
  bool types = false;             ///< debug information tells types
};

class DataSink {
 public:
  virtual ~DataSink() = default;
  virtual void begin(const DataFile& file) = 0;
  virtual void variable(const DataRow& row) = 0;
  virtual void end() = 0;
};

/// Gives how many rows came. Errors (Fault::usage): a name that stands for nothing, with near ones.
Result<std::size_t> list_data(const program::Program& program, const DataRequest& request, DataSink& sink);

/// Reads pointers as the loader will fill them: through the relocations, with names for what they point to.
inspect::PointerReader pointers_of(const program::Program& program);

}  // namespace deeptrace::study
