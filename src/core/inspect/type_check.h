// What is wrong with an expression whatever the values are: members that a type does not have, places that nothing
// points to, comparisons that can never hold. What depends on values or is not known counts as right.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <string_view>

#include "inspect/expression.h"

namespace deeptrace::inspect {

/// The type of the variable that a name stands for; nothing for registers, and where it is not known.
using TypeOfName = std::function<std::optional<TypeRef>(std::string_view)>;

/// Of a condition (`is_condition`) also that it is no truth value.
std::optional<Error> type_error(const ExpressionNode& root, const TypeOfName& type_of_name, bool is_condition);

/// The type of a member, also of base classes and unnamed parts, with its bits if it is a bit field.
struct MemberType {
  debuginfo::TypeId type = debuginfo::kVoid;
  unsigned bits = 0;  ///< 0: no bit field
};
std::optional<MemberType> member_type(debuginfo::Types& types, debuginfo::TypeId whole, std::string_view name);

/// True where an object may be more than its type says: a class with virtual functions or bases, or one that is only
/// declared.
bool may_be_more(debuginfo::Types& types, debuginfo::TypeId whole);

/// ".depth: struct gauge has no such member; it has level, unit".
std::string no_such_member(debuginfo::Types& types, debuginfo::TypeId whole, std::string_view name);

}  // namespace deeptrace::inspect
