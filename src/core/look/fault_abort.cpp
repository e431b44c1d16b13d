#include "look/fault_abort.h"

#include <algorithm>
#include <array>

#include "look/call_arguments.h"
#include "look/exception.h"
#include "look/fault_address.h"
#include "look/heap.h"

namespace deeptrace::look {
namespace {

class AbortExaminer {
 public:
  AbortExaminer(const state::Target& target, Modules& modules, const state::StateView& view,
                const std::vector<inspect::Frame>& frames, const FaultReport& report)
      : target_(target), modules_(modules), view_(view), frames_(frames), report_(report) {}

  std::vector<Finding> run() {
    message_ = abort_message();
    if (const inspect::Frame* caller = caller_of("__assert_fail")) return {assertion(*caller)};
    if (const inspect::Frame* caller = caller_of("__stack_chk_fail")) return {protector(*caller)};
    if (has("__cxa_pure_virtual"))
      return {made("pure_virtual_call",
                   "a virtual function was called that the object's class does not have (yet): in a "
                   "constructor or destructor of a base class, or of an object that is gone")};
    if (has("__cxa_throw") || has("__cxa_rethrow") || has("_ZSt9terminatev")) return {terminated()};
    if (has("__fortify_fail") || message_.find("buffer overflow") != std::string::npos)
      return {made("buffer_overflow", "a checked function of the C library was given more than its destination holds",
                   true)};
    if (is_of_allocator()) return {allocator()};
    const bool raised = has("raise") || has("abort") || has("pthread_kill") || has("__pthread_kill_implementation");
    if (has("abort")) return {made("abort", "abort was called", !message_.empty())};
    return {made("sent", raised ? "SIGABRT was raised" : "SIGABRT was sent, by the program itself or by another")};
  }

 private:
  [[nodiscard]] std::string_view symbol_of(const inspect::Frame& frame) const {
    const program::Function* function = modules_.function_at(frame.inside());
    return function != nullptr ? function->symbol() : std::string_view();
  }
  [[nodiscard]] static bool is(std::string_view symbol, std::string_view name) {
    return symbol == name || (symbol.starts_with(name) && symbol.size() > name.size() && symbol[name.size()] == '@');
  }
  [[nodiscard]] std::size_t index_of(std::string_view name) const {
    constexpr std::size_t kDeepest = 64;
    for (std::size_t i = 0; i < frames_.size() && i < kDeepest; ++i) {
      if (is(symbol_of(frames_[i]), name)) return i;
    }
    return frames_.size();
  }
  [[nodiscard]] bool has(std::string_view name) const { return index_of(name) < frames_.size(); }
  [[nodiscard]] const inspect::Frame* caller_of(std::string_view name) const {
    const std::size_t index = index_of(name);
    return index + 1 < frames_.size() ? &frames_[index + 1] : nullptr;
  }

  Finding made(std::string kind, std::string text, bool with_message = false) {
    Finding finding;
    finding.kind = std::move(kind);
    finding.text = std::move(text);
    if (with_message && !message_.empty()) finding.evidence.push_back("the C library's message: " + message_);
    return finding;
  }

  void place(Finding& finding, const inspect::Frame& frame) {
    finding.address = frame.address();
    finding.function = frame.at_call ? modules_.return_name(frame.address()) : modules_.place_name(frame.address());
    const auto [file, line] = modules_.line_of(frame.inside());
    finding.file = file;
    finding.line = line;
  }

  /// What the library wrote before it gave up (glibc: __abort_msg, a size and the characters).
  std::string abort_message() {
    for (const auto& module : modules_.all()) {
      if (!module->system && module.get() != &modules_.main()) continue;
      if (modules_.at(module->from) == nullptr || !module->program) continue;
      const program::DataSymbol* symbol = module->program->data_named("__abort_msg");
      if (symbol == nullptr) continue;
      const std::uint64_t place = view_.word_at(symbol->address + module->bias).value_or(0);
      std::string text(1024, '\0');
      text.resize(
          place == 0 ? 0 : view_.read_memory(place + 4, {reinterpret_cast<std::uint8_t*>(text.data()), text.size()}));
      text = text.c_str();
      while (!text.empty() && text.back() == '\n') text.pop_back();
      if (!text.empty()) return text;
    }
    return {};
  }

  Finding assertion(const inspect::Frame& caller) {
    const auto call = call_made(modules_, view_, caller);
    Finding finding = made("assertion", "an assertion failed", true);
    place(finding, caller);
    if (call && !call->arguments.empty() && call->arguments[0].value && !call->arguments[0].value->pointed_text.empty())
      finding.text += ": " + call->arguments[0].value->pointed_text;
    return finding;
  }

  Finding protector(const inspect::Frame& caller) {
    const program::Function* function = modules_.function_at(caller.inside());
    Finding finding =
        made("stack_protector", "something wrote past the end of an array of " +
                                    (function != nullptr ? function->name.str() : std::string("a function")) +
                                    ": the protector above its local variables is not what it was");
    place(finding, caller);
    Scope scope(modules_, view_, caller);
    for (const Scope::Listed& one : scope.locals()) {
      if (!one.datum || !one.datum->type || one.datum->place != inspect::Datum::Place::memory) continue;
      const inspect::TypeRef type = one.datum->type;
      if ((*type.types)[type.types->plain(type.id)].kind != debuginfo::Type::Kind::array) continue;
      finding.evidence.push_back(one.name + " has " + std::to_string(type.types->size(type.id)) + " bytes at " +
                                 address_text(one.datum->address));
    }
    return finding;
  }

  Finding terminated() {
    std::size_t index = index_of("__cxa_throw");
    if (index == frames_.size()) index = index_of("__cxa_rethrow");
    std::string words = exception_under_way(modules_, view_, frames_, index);
    const char* promise = "a function that promises to throw nothing (noexcept) was to be left by it";
    if (has("__clang_call_terminate")) {
      Finding finding = made("uncaught_exception", "nobody caught " + (words.empty() ? "an exception" : words));
      finding.evidence.emplace_back(promise);
      return finding;
    }
    if (index == frames_.size())
      return made("terminate", "std::terminate was called" +
                                   (words.empty() ? ": no exception is under way" : ", with " + words + " under way"));
    Finding finding = made("uncaught_exception", "nobody caught " + (words.empty() ? "an exception" : words));
    if (index + 1 < frames_.size())
      finding.evidence.push_back("it was thrown at " + modules_.return_name(frames_[index + 1].address()));
    // The search for a handler itself ended the program.
    if (index_of("__gxx_personality_v0") < index || index_of("__cxa_call_terminate") < index)
      finding.evidence.emplace_back(promise);
    return finding;
  }

  /// glibc's allocator names itself in its message.
  [[nodiscard]] bool is_of_allocator() const {
    constexpr std::array<std::string_view, 9> kBeginnings = {"free(): ",
                                                             "malloc(): ",
                                                             "realloc(): ",
                                                             "double free",
                                                             "corrupted ",
                                                             "munmap_chunk(): ",
                                                             "malloc_consolidate(): ",
                                                             "calloc(): ",
                                                             "tcache_thread_shutdown(): "};
    return std::ranges::any_of(kBeginnings, [&](std::string_view one) { return message_.starts_with(one); });
  }

  Finding allocator() {
    Finding finding =
        made("allocator", "the allocator found its records damaged, or was given something that is not its own", true);
    if (message_.find("double free") != std::string::npos) {
      finding.kind = "double_free";
      finding.text = "memory was given back a second time";
    } else if (message_.find("invalid pointer") != std::string::npos) {
      finding.kind = "invalid_free";
      finding.text = "something was given back that the allocator did not give";
    }
    if (!report_.own || !report_.own->call || report_.own->call->arguments.empty()) return finding;
    const CallMade& call = *report_.own->call;
    const Argument& first = call.arguments[0];
    if (!first.value || first.use != abi::Prototype::Use::gives_back) return finding;
    const std::uint64_t value = first.value->number;
    const AddressName name = address_name(modules_, view_, value, view_.registers()[state::Reg::rsp]);
    finding.evidence.push_back(call.function + " was given " + address_text(value) +
                               (!name.name.empty()     ? ", " + name.name
                                : !name.region.empty() ? ", in the " + name.region
                                                       : ""));
    const HeapPlace heap = heap_place(target_, view_, value);
    if (heap.state == HeapPlace::State::freed)
      finding.evidence.push_back("the allocator's records have it as free: " + std::to_string(heap.size) + " bytes");
    if (heap.start != 0 && heap.start != value)
      finding.evidence.push_back("it lies " + std::to_string(value - heap.start) +
                                 " bytes into memory that was given out at " + address_text(heap.start));
    return finding;
  }

  const state::Target& target_;
  Modules& modules_;
  const state::StateView& view_;
  const std::vector<inspect::Frame>& frames_;
  const FaultReport& report_;
  std::string message_;
};

}  // namespace

std::vector<Finding> explain_abort(const state::Target& target, Modules& modules, const state::StateView& view,
                                   const std::vector<inspect::Frame>& frames, const FaultReport& report) {
  return AbortExaminer(target, modules, view, frames, report).run();
}

}  // namespace deeptrace::look
