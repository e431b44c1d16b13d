#include "abi/call_errors.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <span>

#include "base/number.h"

namespace deeptrace::abi {
namespace {

struct ErrorCause {
  std::string_view error, cause;
};
struct CallErrors {
  std::string_view call;
  std::span<const std::string_view> errors;
};

#include "errors.inc"

/// Above those of programs (<linux/errno.h>): the kernel's own, which only tracers see.
constexpr struct {
  int error;
  std::string_view name, meaning;
} kRestarts[] = {{512, "ERESTARTSYS", "interrupted by a signal; it may begin anew"},
                 {513, "ERESTARTNOINTR", "interrupted by a signal; it begins anew"},
                 {514, "ERESTARTNOHAND", "interrupted by a signal; it begins anew unless a handler runs"},
                 {516, "ERESTART_RESTARTBLOCK", "interrupted by a signal; it goes on afterwards"}};

using Kind = ArgumentShape::Kind;

void add_errors_of(const ArgumentShape& argument, std::vector<std::string_view>& errors) {
  if (argument.is_descriptor()) errors.push_back("EBADF");
  if (argument.is_pointer() && argument.kind != Kind::address) errors.push_back("EFAULT");
  if (argument.kind == Kind::path)
    errors.insert(errors.end(), {"EACCES", "ELOOP", "ENAMETOOLONG", "ENOENT", "ENOTDIR"});
  if (argument.kind == Kind::flags || argument.kind == Kind::one || argument.kind == Kind::signal)
    errors.push_back("EINVAL");
  if (argument.kind == Kind::socket_address) errors.push_back("ENOTSOCK");
}

}  // namespace

std::string error_name(int error) {
  for (const auto& one : kRestarts) {
    if (one.error == error) return std::string(one.name);
  }
  const char* name = ::strerrorname_np(error);
  return name != nullptr && error > 0 ? name : "";
}

std::string error_meaning(int error) {
  for (const auto& one : kRestarts) {
    if (one.error == error) return std::string(one.meaning);
  }
  const char* meaning = ::strerrordesc_np(error);
  return meaning != nullptr && error > 0 ? meaning : "";
}

std::vector<int> errors() {
  constexpr int kMost = 4095;  // <linux/err.h>: MAX_ERRNO
  std::vector<int> result;
  for (int error = 1; error <= kMost; ++error) {
    if (!error_name(error).empty()) result.push_back(error);
  }
  return result;
}

std::optional<std::int64_t> result_in(std::string_view text) {
  if (const auto error = error_named(text)) return -*error;
  const bool negative = text.starts_with('-');
  const auto number = number_in(negative ? text.substr(1) : text);
  if (!number) return std::nullopt;
  const auto value = static_cast<std::int64_t>(*number);
  return negative ? -value : value;
}

std::optional<int> error_named(std::string_view name) {
  for (const int error : errors()) {
    if (error_name(error) == name) return error;
  }
  // Second names (<asm-generic/errno.h>).
  if (name == "EWOULDBLOCK") return EWOULDBLOCK;
  if (name == "EDEADLOCK") return EDEADLOCK;
  if (name == "ENOTSUP") return ENOTSUP;
  return std::nullopt;
}

std::string_view usual_cause(std::string_view error) {
  const auto found = std::ranges::lower_bound(kCauses, error, {}, &ErrorCause::error);
  return found != std::end(kCauses) && found->error == error ? found->cause : std::string_view();
}

std::vector<std::string_view> errors_of(const CallShape& call) {
  std::vector<std::string_view> result;
  if (call.result.kind == Kind::never) return result;
  for (const ArgumentShape& argument : call.arguments) add_errors_of(argument, result);
  const auto own = std::ranges::lower_bound(kCallErrors, call.name, {}, &CallErrors::call);
  if (own != std::end(kCallErrors) && own->call == call.name)
    result.insert(result.end(), own->errors.begin(), own->errors.end());
  std::ranges::sort(result);
  result.erase(std::unique(result.begin(), result.end()), result.end());
  return result;
}

}  // namespace deeptrace::abi
