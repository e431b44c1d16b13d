#include "look/passed_value.h"

#include "isa/text.h"
#include "state/delta.h"
#include "state/parts.h"

namespace deeptrace::look {

using inspect::Datum;
using inspect::TypeRef;

Result<Datum> passed_value(const state::StateView& view, const abi::Passed& passed, std::optional<TypeRef> type,
                           std::uint64_t arguments) {
  Datum datum;
  const std::uint64_t word = arch::machine_of(view.mode()).word;
  if (type) {
    datum.type = *type;
  } else {
    datum.shape = inspect::Shape{inspect::Shape::Kind::pointer, static_cast<unsigned>(word)};
  }
  if (passed.pieces.empty()) return Error{Fault::usage, "it has no bytes: nothing is passed for it"};
  const abi::Piece& first = passed.pieces.front();
  if (passed.pieces.size() == 1 && !first.part && !passed.by_address) {
    datum.place = Datum::Place::memory;
    datum.address = arguments + first.stack;
    return datum;
  }
  datum.loaded = true;
  for (const abi::Piece& piece : passed.pieces) {
    std::vector<std::uint8_t> bytes;
    if (!piece.part) {
      bytes.resize(piece.size);
      if (view.read_memory(arguments + piece.stack, bytes) != bytes.size())
        return Error{Fault::usage, "the stack cannot be read where it was passed"};
    } else if (auto raw = state::bytes_of(view, piece.part)) {
      bytes = std::move(*raw);
      bytes.resize(piece.size);
    } else {
      return Error{Fault::usage, "what " + std::string(isa::name_of(piece.part)) + " held is not known here"};
    }
    if (piece.offset == 0) {
      datum.bytes = std::move(bytes);
      continue;
    }
    datum.bytes.resize(piece.offset);
    datum.bytes.insert(datum.bytes.end(), bytes.begin(), bytes.end());
  }
  if (passed.by_address) {
    datum.place = Datum::Place::memory;
    datum.address = state::number_of(datum.bytes.data(), static_cast<unsigned>(word));
    datum.bytes.clear();
    datum.loaded = false;
    return datum;
  }
  if (type) datum.bytes.resize(type->types->size(type->id));
  if (passed.pieces.size() == 1 && datum.bytes.size() == first.size) {
    datum.place = Datum::Place::reg;
    datum.part = first.part;
  }
  return datum;
}

}  // namespace deeptrace::look
