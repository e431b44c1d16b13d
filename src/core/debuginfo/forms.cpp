#include "debuginfo/forms.h"

namespace deeptrace::debuginfo {
namespace {

/// How the bytes of a value are found (DWARF 5, table 7.6, and GNU extensions).
enum class Coding : std::uint8_t {
  none,
  fixed,
  address,
  offset,
  reference,
  uleb,
  sleb,
  text,
  at_strings,
  at_lines,
  at_other,
  block,
  indirect,
  implicit,
  present
};

struct FormRow {
  std::uint16_t form;
  Coding coding;
  std::uint8_t size;  ///< of fixed values and of the length of blocks, in bytes; 0: LEB128
  FormClass kind;
};

constexpr FormRow kForms[] = {
    {0x01, Coding::address, 0, FormClass::address},
    {0x03, Coding::block, 2, FormClass::block},
    {0x04, Coding::block, 4, FormClass::block},
    {0x05, Coding::fixed, 2, FormClass::constant},
    {0x06, Coding::fixed, 4, FormClass::constant},
    {0x07, Coding::fixed, 8, FormClass::constant},
    {0x08, Coding::text, 0, FormClass::string},
    {0x09, Coding::block, 0, FormClass::block},
    {0x0a, Coding::block, 1, FormClass::block},
    {0x0b, Coding::fixed, 1, FormClass::constant},
    {0x0c, Coding::fixed, 1, FormClass::flag},
    {0x0d, Coding::sleb, 0, FormClass::signed_constant},
    {0x0e, Coding::at_strings, 0, FormClass::string},
    {0x0f, Coding::uleb, 0, FormClass::constant},
    {0x10, Coding::reference, 0, FormClass::far_reference},
    {0x11, Coding::fixed, 1, FormClass::reference},
    {0x12, Coding::fixed, 2, FormClass::reference},
    {0x13, Coding::fixed, 4, FormClass::reference},
    {0x14, Coding::fixed, 8, FormClass::reference},
    {0x15, Coding::uleb, 0, FormClass::reference},
    {0x16, Coding::indirect, 0, FormClass::unknown},
    {0x17, Coding::offset, 0, FormClass::offset},
    {0x18, Coding::block, 0, FormClass::expression},
    {0x19, Coding::present, 0, FormClass::flag},
    {0x1a, Coding::uleb, 0, FormClass::string_index},
    {0x1b, Coding::uleb, 0, FormClass::address_index},
    {0x1c, Coding::fixed, 4, FormClass::supplementary},
    {0x1d, Coding::at_other, 0, FormClass::string},
    {0x1e, Coding::fixed, 16, FormClass::block},
    {0x1f, Coding::at_lines, 0, FormClass::string},
    {0x20, Coding::fixed, 8, FormClass::signature},
    {0x21, Coding::implicit, 0, FormClass::signed_constant},
    {0x22, Coding::uleb, 0, FormClass::location_list_index},
    {0x23, Coding::uleb, 0, FormClass::range_list_index},
    {0x24, Coding::fixed, 8, FormClass::supplementary},
    {0x25, Coding::fixed, 1, FormClass::string_index},
    {0x26, Coding::fixed, 2, FormClass::string_index},
    {0x27, Coding::fixed, 3, FormClass::string_index},
    {0x28, Coding::fixed, 4, FormClass::string_index},
    {0x29, Coding::fixed, 1, FormClass::address_index},
    {0x2a, Coding::fixed, 2, FormClass::address_index},
    {0x2b, Coding::fixed, 3, FormClass::address_index},
    {0x2c, Coding::fixed, 4, FormClass::address_index},
    {0x1f01, Coding::uleb, 0, FormClass::address_index},
    {0x1f02, Coding::uleb, 0, FormClass::string_index},
    {0x1f20, Coding::offset, 0, FormClass::supplementary},
    {0x1f21, Coding::at_other, 0, FormClass::string},
};

const FormRow* row_of(std::uint64_t form) {
  if (form >= 0x03 && form <= 0x2c && kForms[form - 2].form == form) return &kForms[form - 2];
  for (const FormRow& row : kForms) {
    if (row.form == form) return &row;
  }
  return nullptr;
}

}  // namespace

FormValue read_form(ByteReader& reader, std::uint64_t form, const FormContext& context, std::int64_t implicit) {
  const FormRow* row = row_of(form);
  if (row == nullptr) return {};
  FormValue value{row->kind, 0, {}, {}};
  const auto offset = [&] { return context.wide ? reader.u64() : reader.u32(); };
  switch (row->coding) {
    case Coding::fixed:
      if (row->size > 8) {
        value.bytes = reader.bytes(row->size);
      } else {
        value.number = reader.unsigned_of(row->size);
      }
      break;
    case Coding::address: value.number = reader.unsigned_of(context.address_size); break;
    case Coding::offset: value.number = offset(); break;
    case Coding::reference:  // DWARF 2 gave it the size of an address
      value.number = context.version <= 2 ? reader.unsigned_of(context.address_size) : offset();
      break;
    case Coding::uleb: value.number = reader.uleb(); break;
    case Coding::sleb: value.number = static_cast<std::uint64_t>(reader.sleb()); break;
    case Coding::text: value.text = reader.string(); break;
    case Coding::at_strings: value.text = string_at(context.strings, offset()); break;
    case Coding::at_lines: value.text = string_at(context.line_strings, offset()); break;
    case Coding::at_other: value.text = string_at(context.other_strings, offset()); break;
    case Coding::block:
      value.bytes = reader.bytes(row->size == 0 ? reader.uleb() : reader.unsigned_of(row->size));
      break;
    case Coding::implicit: value.number = static_cast<std::uint64_t>(implicit); break;
    case Coding::present: value.number = 1; break;
    case Coding::indirect: {
      const std::uint64_t inner = reader.uleb();
      const FormRow* inner_row = row_of(inner);
      if (inner_row == nullptr || inner_row->coding == Coding::indirect || inner_row->coding == Coding::implicit)
        return {};
      return read_form(reader, inner, context);
    }
    case Coding::none: return {};
  }
  return value;
}

int fixed_size(std::uint64_t form, const FormContext& context) {
  const FormRow* row = row_of(form);
  if (row == nullptr) return -1;
  switch (row->coding) {
    case Coding::fixed: return row->size;
    case Coding::address: return context.address_size;
    case Coding::reference: return context.version <= 2 ? context.address_size : context.wide ? 8 : 4;
    case Coding::offset:
    case Coding::at_strings:
    case Coding::at_lines:
    case Coding::at_other: return context.wide ? 8 : 4;
    case Coding::implicit:
    case Coding::present: return 0;
    default: return -1;
  }
}

}  // namespace deeptrace::debuginfo
