// What looks at a program, tried on states that are made up: expressions, frames, location expressions, rules and plans
// as tables of cases.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <optional>

#include "binary/elf.h"
#include "binary/notes.h"
#include "control/halt_rule.h"
#include "debuginfo/frame_rules.h"
#include "debuginfo/location.h"
#include "fake_state.h"
#include "inspect/expression.h"
#include "inspect/frames.h"
#include "look/code_lines.h"
#include "look/foresight.h"
#include "look/loader.h"
#include "look/modules.h"
#include "look/rows.h"
#include "look/stack_words.h"
#include "session/plan.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using inspect::Datum;
using inspect::Value;
using state::Reg;

/// No variables, no types: registers and memory alone.
class FakeEnvironment final : public inspect::Environment {
 public:
  explicit FakeEnvironment(const state::StateView& view) : view_(view) {}
  [[nodiscard]] const state::StateView& view() const override { return view_; }
  Result<Datum> variable(std::string_view name) override { return Error{Fault::usage, std::string(name) + ": none"}; }
  bool has_variable(std::string_view /*name*/) override { return false; }
  std::optional<inspect::TypeRef> type_named(std::string_view /*name*/) override { return std::nullopt; }
  Result<Datum> argument(std::uint64_t /*number*/) override { return Error{Fault::usage, "none"}; }
  Result<Datum> result() override { return Error{Fault::usage, "none"}; }
  Result<Datum> caller() override { return Error{Fault::usage, "none"}; }
  inspect::PointerReader pointers() override {
    return [](std::uint64_t, std::uint64_t, bool) { return inspect::Pointed{}; };
  }

 private:
  const state::StateView& view_;
};

/// A gauge's registers and a few bytes of its memory.
FakeState gauge(isa::Mode mode = isa::Mode::bits64) {
  FakeState state(mode);
  state.set[Reg::rax] = 0x1122334455667788;
  state.set[Reg::rbx] = 0x1000;
  state.set[Reg::rcx] = ~std::uint64_t(0) - 5;  // -6
  state.set[Reg::rsp] = 0x7000;
  state.set[Reg::rflags] = 0x246;
  state.put(0x1000, {0x10, 0x20, 0x30, 0x40, 0xfa, 0xff, 0xff, 0xff});
  state.put(0x7000, {1, 0, 0, 0, 0, 0, 0, 0, 't', 'i', 'd', 'e', 0, 0, 0, 0, 0, 0, 0xc0, 0x3f, 0, 0, 0, 0});
  return state;
}

/// The number that an expression gives, or the end of its complaint.
std::string evaluated(const std::string& text, const FakeState& state) {
  FakeEnvironment environment(state);
  const auto expression = inspect::Expression::parse(text);
  if (!expression) return expression.error().message;
  Result<Datum> datum = expression->evaluate(environment);
  if (!datum) return datum.error().message;
  const Value value = inspect::value_of(*datum, environment);
  if (value.kind == Value::Kind::floating || value.kind == Value::Kind::string) return value.text;
  const auto number = inspect::number_of(*datum, environment);
  return number ? fmt::format("{:#x}", *number) : number.error().message;
}

TEST(Expressions, OfRegistersAndMemory) {
  const FakeState state = gauge();
  const std::pair<const char*, const char*> cases[] = {
      {"rax", "0x1122334455667788"},
      {"eax", "0x55667788"},
      {"ah", "0x77"},
      {"al", "0x88"},
      {"zf", "0x1"},
      {"cf", "0x0"},
      {"rbx + 4 * 2", "0x1008"},
      {"[u8 rbx]", "0x10"},
      {"[u16 rbx]", "0x2010"},
      {"[u32 rbx + 4]", "0xfffffffa"},
      {"[i32 rbx + 4] == -6", "0x1"},
      {"[u32 rbx + 4] == -6", "0x1"},
      {"word ptr [rbx+2]", "0x4030"},
      {"[u64 rsp]", "0x1"},
      {"[string rsp+8]", "tide"},
      {"[f32 rsp+16]", "1.5"},
      {"ecx == -6", "0x1"},
      {"al == 0x88", "0x1"},
      {"al == -120", "0x1"},
      {"i32(ecx) < 0", "0x1"},
      {"i8(al) + 120", "0x0"},
      {"(rax >> 8) & 0xff", "0x77"},
      {"!zf || u64(rbx) > 3", "0x1"},
      {"rbx > 3", "rbx > 3: is rbx signed or unsigned? write i64(rbx) or u64(rbx)"},
      {"u64(rbx) / 0", "u64(rbx) / 0: division by zero"},
      {"[u64 0x5000]", "memory at 0x5000 cannot be read"},
  };
  for (const auto& [text, wanted] : cases) EXPECT_EQ(evaluated(text, state), wanted) << text;
}

TEST(Expressions, Of32BitRegisters) {
  FakeState state = gauge(isa::Mode::bits32);
  state.set[Reg::rax] = 0x55667788;
  EXPECT_EQ(evaluated("eax", state), "0x55667788");
  EXPECT_EQ(evaluated("[ptr esp]", state), "0x1") << "four bytes";
  EXPECT_EQ(evaluated("rax", state).find("rax: "), 0U) << "there is none";
}

TEST(Expressions, WhatIsWrittenWronglySaysWhere) {
  const std::pair<const char*, const char*> cases[] = {
      {"rax +", "at character 6"}, {"(rax", "at character 5"}, {"[u9 rax]", "at character 2"}, {"", "at character 1"}};
  for (const auto& [text, wanted] : cases) {
    const auto parsed = inspect::Expression::parse(text);
    ASSERT_FALSE(parsed) << text;
    EXPECT_NE(parsed.error().message.find(wanted), std::string::npos) << text << ": " << parsed.error().message;
  }
}

// ---- frames ---------------------------------------------------------------------------------------------------------

inspect::PlacedRule rule_with(unsigned cfa_register, std::int64_t offset, isa::Mode mode) {
  inspect::PlacedRule placed;
  placed.rule.cfa_register = cfa_register;
  placed.rule.cfa_offset = offset;
  placed.rule.return_register = arch::machine_of(mode).dwarf_return_address;
  return placed;
}

/// A function with 16 bytes of locals that has saved rbx, called by another: by a rule as unwind tables give it.
TEST(Frames, FollowARule) {
  for (const isa::Mode mode : {isa::Mode::bits64, isa::Mode::bits32}) {
    const arch::Machine& machine = arch::machine_of(mode);
    const std::uint64_t word = machine.word;
    FakeState state(mode);
    state.set[Reg::rip] = 0x401010;
    state.set[Reg::rsp] = 0x7000;
    state.set[Reg::rbx] = 5;
    state.set[Reg::rax] = 9;
    const std::uint64_t cfa = 0x7000 + 2 * word + 16;
    state.put_word(cfa - word, 0x402020);    // return address
    state.put_word(cfa - 2 * word, 0x1234);  // the caller's rbx
    inspect::PlacedRule placed =
        rule_with(machine.dwarf_number(isa::kRsp), static_cast<std::int64_t>(cfa - 0x7000), mode);
    placed.rule.registers[machine.dwarf_number(isa::kRbx)] = {
        debuginfo::RegisterRule::Kind::at_offset, -2 * static_cast<std::int64_t>(word), 0, {}};
    const auto rules = [&](std::uint64_t address) {
      return address == 0x401010 ? std::optional(placed) : std::nullopt;
    };
    const inspect::Frame inner = inspect::innermost_frame(state, rules);
    EXPECT_EQ(inner.cfa, cfa);
    const auto caller = inspect::caller_of(inner, state, rules, [](std::uint64_t) { return true; });
    ASSERT_TRUE(caller);
    EXPECT_EQ(caller->how, inspect::Frame::How::table);
    EXPECT_EQ(caller->address(), 0x402020U);
    EXPECT_EQ(caller->inside(), 0x40201fU) << "inside the call";
    EXPECT_EQ(caller->registers[Reg::rsp], cfa);
    EXPECT_EQ(caller->registers[Reg::rbx], 0x1234U);
    EXPECT_EQ(caller->known >> static_cast<unsigned>(Reg::rbx) & 1, 1U);
    EXPECT_EQ(caller->known >> static_cast<unsigned>(Reg::rax) & 1, 0U) << "a call may change it";
    EXPECT_EQ(caller->known >> static_cast<unsigned>(Reg::rbp) & 1, 1U) << "kept";
  }
}

TEST(Frames, FollowFramePointersWhereNothingElseIsKnown) {
  FakeState state;
  state.set[Reg::rip] = 0x401010;
  state.set[Reg::rsp] = 0x7000;
  state.set[Reg::rbp] = 0x7020;
  state.put_word(0x7020, 0x7040);
  state.put_word(0x7028, 0x402020);
  const inspect::RuleFinder none = [](std::uint64_t) { return std::nullopt; };
  const inspect::Frame inner = inspect::innermost_frame(state, none);
  const auto caller = inspect::caller_of(inner, state, none, [](std::uint64_t) { return true; });
  ASSERT_TRUE(caller);
  EXPECT_EQ(caller->how, inspect::Frame::How::pointer);
  EXPECT_EQ(caller->address(), 0x402020U);
  EXPECT_EQ(caller->registers[Reg::rbp], 0x7040U);
  EXPECT_EQ(caller->registers[Reg::rsp], 0x7030U);
  // A return address that is no code, and a pointer below the stack, end the way.
  EXPECT_FALSE(inspect::caller_of(inner, state, none, [](std::uint64_t) { return false; }));
  state.set[Reg::rbp] = 0x6000;
  EXPECT_FALSE(
      inspect::caller_of(inspect::innermost_frame(state, none), state, none, [](std::uint64_t) { return true; }));
}

TEST(Frames, WhatWasNotSavedIsUnknown) {
  FakeState state;
  state.set[Reg::rip] = 0x401010;
  state.set[Reg::rsp] = 0x7000;
  inspect::PlacedRule placed = rule_with(7, 8, isa::Mode::bits64);
  placed.rule.registers[3].kind = debuginfo::RegisterRule::Kind::undefined;                 // rbx
  placed.rule.registers[12] = {debuginfo::RegisterRule::Kind::value_offset, -0x10, 0, {}};  // r12
  placed.rule.registers[13] = {debuginfo::RegisterRule::Kind::at_offset, -0x100, 0, {}};    // r13: not in memory
  const auto rules = [&](std::uint64_t) { return std::optional(placed); };
  const inspect::Frame inner = inspect::innermost_frame(state, rules);
  EXPECT_FALSE(inspect::caller_of(inner, state, rules, [](std::uint64_t) { return true; })) << "no return address";
  state.put_word(0x7000, 0x402020);
  const auto caller = inspect::caller_of(inner, state, rules, [](std::uint64_t) { return true; });
  ASSERT_TRUE(caller);
  const auto known = [&](Reg reg) { return (caller->known >> static_cast<unsigned>(reg) & 1) != 0; };
  EXPECT_FALSE(known(Reg::rbx));
  EXPECT_FALSE(known(Reg::r13));
  EXPECT_TRUE(known(Reg::r12));
  EXPECT_EQ(caller->registers[Reg::r12], 0x7008U - 0x10);
}

/// The assembler writes the tables, by its directives (GNU as manual, "CFI directives"); each label says what holds
/// there.
TEST(FrameRules, AreThoseOfTheDirectives) {
  const TempFolder folder;
  write_file(folder / "a.s", R"(
  .globl f, l0, l1, l2, l3, l4, l5, handler
  .type f, @function
f: .cfi_startproc
l0: push %rbx
  .cfi_def_cfa_offset 16
  .cfi_offset %rbx, -16
l1: mov %rsp, %rbp
  .cfi_def_cfa_register %rbp
  .cfi_remember_state
l2: nop
  .cfi_undefined %r12
  .cfi_same_value %r13
  .cfi_register %r14, %r15
  .cfi_val_offset %rdi, -24
l3: nop
  .cfi_restore_state
l4: nop
  .cfi_escape 0x0f, 3, 0x77, 8, 0x06
l5: ret
  .cfi_endproc
  .size f, . - f
  .type handler, @function
handler: .cfi_startproc
  .cfi_signal_frame
  ret
  .cfi_endproc
  .size handler, . - handler
)");
  ASSERT_EQ(run({"gcc", "-nostdlib", "-shared", "-o", folder / "a.so", folder / "a.s"}).status, 0);
  const auto elf = binary::Elf::open(folder / "a.so");
  ASSERT_TRUE(elf);
  debuginfo::FrameTable table(*elf, *elf);
  const auto at = [&](const std::string& label) {
    const auto symbol = std::ranges::find_if(elf->symbols(), [&](const auto& one) { return one.name == label; });
    return table.at((*symbol).address);
  };
  using Kind = debuginfo::RegisterRule::Kind;
  constexpr unsigned kRbx = 3, kRdi = 5, kRbp = 6, kRsp = 7;
  const auto first = at("l0");
  ASSERT_TRUE(first);
  EXPECT_EQ(first->cfa_register, kRsp);
  EXPECT_EQ(first->cfa_offset, 8);
  EXPECT_EQ(first->return_register, 16U);
  EXPECT_FALSE(first->signal_frame);
  const auto pushed = at("l1");
  EXPECT_EQ(pushed->cfa_offset, 16);
  EXPECT_EQ(pushed->registers[kRbx].kind, Kind::at_offset);
  EXPECT_EQ(pushed->registers[kRbx].offset, -16);
  EXPECT_EQ(at("l2")->cfa_register, kRbp);
  EXPECT_EQ(at("l2")->cfa_offset, 16);
  const auto changed = at("l3");
  EXPECT_EQ(changed->registers[12].kind, Kind::undefined);
  EXPECT_EQ(changed->registers[13].kind, Kind::same);
  EXPECT_EQ(changed->registers[14].kind, Kind::in_register);
  EXPECT_EQ(changed->registers[14].number, 15U);
  EXPECT_EQ(changed->registers[kRdi].kind, Kind::value_offset);
  EXPECT_EQ(changed->registers[kRdi].offset, -24);
  const auto restored = at("l4");
  EXPECT_EQ(restored->registers[12].kind, Kind::unspecified);
  EXPECT_EQ(restored->registers[kRbx].kind, Kind::at_offset);
  const std::vector<std::uint8_t> expression = {0x77, 8, 0x06};
  EXPECT_TRUE(std::ranges::equal(at("l5")->cfa_expression, expression));
  EXPECT_TRUE(at("handler")->signal_frame);
  EXPECT_FALSE(table.at(0));
}

// ---- targets --------------------------------------------------------------------------------------------------------

/// A program and a library as somebody has them mapped, without any process: modules come from the mappings alone.
TEST(Targets, HaveTheModulesThatAreMapped) {
  FakeTarget target;
  const std::string program = demo("tidelog"), library = "/lib/x86_64-linux-gnu/libm.so.6";
  auto opened = program::Program::open(program, {});
  ASSERT_TRUE(opened);
  constexpr std::uint64_t kBase = 0x10000000, kLibrary = 0x20000000;
  target.auxiliaries[state::Auxiliary::entry] = kBase + opened->elf().entry();
  target.mapped = {{.from = kBase, .to = kBase + 0x5000, .readable = true, .path = program},
                   {.from = kLibrary, .to = kLibrary + 0x100000, .readable = true, .executable = true, .path = library},
                   {.from = 0x7000, .to = 0x8000, .readable = true, .writable = true, .path = "[stack]"}};
  const std::uint64_t main_at = opened->functions_named("main").front()->address;
  look::Modules modules(target, std::move(*opened), {});
  ASSERT_EQ(modules.all().size(), 2U);
  EXPECT_EQ(modules.main().bias, kBase);
  EXPECT_EQ(modules.place_name(kBase + main_at + 4), "main+4");
  EXPECT_TRUE(modules.is_own(kBase + main_at));
  EXPECT_EQ(modules.line_of(kBase + main_at).first.substr(modules.line_of(kBase + main_at).first.rfind('/') + 1),
            "tidelog.c");
  ASSERT_NE(modules.at(kLibrary + 0x20000), nullptr);
  EXPECT_EQ(modules.at(kLibrary + 0x20000)->bias, kLibrary);
  EXPECT_EQ(modules.at(0x7010), nullptr);
  EXPECT_EQ(modules.place_name(0x7010), "0x7010");
  // What is unmapped is gone, what is mapped later has come.
  target.mapped.erase(target.mapped.begin() + 1);
  const look::Modules::Changes gone = modules.refresh(target);
  EXPECT_EQ(gone.unloaded, std::vector{library});
  EXPECT_EQ(modules.at(kLibrary + 0x20000), nullptr);
  EXPECT_EQ(target.edit(1), nullptr) << "nothing can be changed here";
}

/// A file that is mapped without code is data; a return address goes by the function of its call, though the next one
/// begins there.
TEST(Targets, NameWhatIsCodeByTheCallThatLedThere) {
  const TempFolder folder;
  write_file(folder / "ends.s", R"(
        .globl _start, last, next
        .type last, @function
last:   push %rbp
        call next
        .size last, . - last
        .type next, @function
next:   ret
        .size next, . - next
        .type _start, @function
_start: call last
        .size _start, . - _start
)");
  ASSERT_EQ(run({"as", folder / "ends.s", "-o", folder / "ends.o"}).status, 0);
  ASSERT_EQ(run({"ld", folder / "ends.o", "-o", folder / "ends"}).status, 0);
  auto opened = program::Program::open(folder / "ends", {});
  ASSERT_TRUE(opened);
  const std::uint64_t last = opened->functions_named("last").front()->address;
  FakeTarget target;
  target.auxiliaries[state::Auxiliary::entry] = opened->elf().entry();
  target.mapped = {{.from = last / 4096 * 4096, .to = last + 4096, .executable = true, .path = folder / "ends"},
                   {.from = 0x800000, .to = 0x801000, .readable = true, .path = folder / "ends.o"}};
  look::Modules modules(target, std::move(*opened), {});
  EXPECT_EQ(modules.all().size(), 1U);
  EXPECT_EQ(modules.place_name(last + 6), "next");
  EXPECT_EQ(modules.return_name(last + 6), "last+6");
  EXPECT_EQ(modules.return_name(last + 1), "last+1");
  EXPECT_EQ(modules.return_name(0x9000), "0x9000");
}

/// The dynamic linker's table, as the program's dynamic section leads to it, in both widths.
TEST(Targets, SayWhereTheDynamicLinkerReports) {
  for (const auto& [name, mode] : {std::pair("tidelog", isa::Mode::bits64), {"gauge32", isa::Mode::bits32}}) {
    auto opened = program::Program::open(demo(name), {});
    ASSERT_TRUE(opened);
    look::Module main;
    main.bias = 0x10000000;
    main.program = std::make_unique<program::Program>(std::move(*opened));
    std::uint64_t dynamic = 0;
    for (const binary::Segment& segment : main.program->elf().segments()) {
      if (segment.type == binary::kDynamicSegment) dynamic = segment.address + main.bias;
    }
    ASSERT_NE(dynamic, 0U);
    const std::uint64_t word = arch::machine_of(mode).word;
    FakeState state(mode);
    EXPECT_FALSE(look::loader_of(main, state)) << "nothing can be read";
    state.put_word(dynamic, 1);  // DT_NEEDED
    state.put_word(dynamic + word, 0x55);
    state.put_word(dynamic + 2 * word, 21);  // DT_DEBUG
    state.put_word(dynamic + 3 * word, 0);
    EXPECT_FALSE(look::loader_of(main, state)) << "not filled in yet";
    state.put_word(dynamic + 3 * word, 0x5000);
    state.put_word(0x5000 + 2 * word, 0x7700);
    const auto loader = look::loader_of(main, state);
    ASSERT_TRUE(loader);
    EXPECT_EQ(loader->function, 0x7700U);
    EXPECT_EQ(loader->state, 0x5000 + 3 * word);
    EXPECT_FALSE(look::is_consistent(*loader, state)) << "its state cannot be read";
    state.put(loader->state, {1, 0, 0, 0});
    EXPECT_FALSE(look::is_consistent(*loader, state));
    state.put(loader->state, {0, 0, 0, 0});
    EXPECT_TRUE(look::is_consistent(*loader, state));
  }
}

/// Notes of both paddings, and what a cut in the middle leaves.
TEST(Notes, AreReadToTheLastWholeOne) {
  const std::vector<std::uint8_t> two = {4, 0,    0,    0,    3,   0,   0, 0, 3, 0, 0,    0, 'G', 'N', 'U',
                                         0, 0xab, 0xcd, 0x01, 0,   5,   0, 0, 0, 1, 0,    0, 0,   1,   0,
                                         0, 0,    'C',  'O',  'R', 'E', 0, 0, 0, 0, 0x7f, 0, 0,   0};
  const binary::Notes notes = binary::notes_in(two, 4);
  ASSERT_EQ(notes.all.size(), 2U);
  EXPECT_TRUE(notes.whole);
  EXPECT_EQ(binary::build_id_among(notes.all), "abcd01");
  EXPECT_EQ(notes.all[1].owner, "CORE");
  EXPECT_EQ(notes.all[1].contents[0], 0x7f);
  // Contents padded to 8 bytes: the second begins four later.
  std::vector<std::uint8_t> wide = two;
  wide.insert(wide.begin() + 20, 4, 0);
  EXPECT_EQ(binary::notes_in(wide, 8).all.size(), 2U);
  EXPECT_EQ(binary::notes_in(wide, 8).all[1].owner, "CORE");
  for (std::size_t size = 0; size < two.size(); ++size) {
    const binary::Notes cut = binary::notes_in(Bytes(two).first(size), 4);
    EXPECT_EQ(cut.all.size(), size < 19 ? 0U : size < 41 ? 1U : 2U) << size;
    EXPECT_EQ(cut.whole, size == 0 || size == 19 || size == 20 || size >= 41) << size;
  }
  std::vector<std::uint8_t> huge = two;
  huge[4] = huge[5] = huge[6] = huge[7] = 0xff;
  EXPECT_TRUE(binary::notes_in(huge, 4).all.empty());
}

/// Code, registers, stack words and what comes next, of a thread that never ran.
TEST(Look, RowsOfAMadeUpThread) {
  FakeTarget target;
  auto opened = program::Program::open(demo("tidelog"), {});
  ASSERT_TRUE(opened);
  target.auxiliaries[state::Auxiliary::entry] = opened->elf().entry();
  const std::uint64_t main_at = opened->functions_named("main").front()->address;
  const std::uint64_t end = opened->elf().section_named(".text")->address + 0x1000;
  target.mapped = {{.from = 0x1000, .to = end, .executable = true, .path = demo("tidelog")}};
  look::Modules modules(target, std::move(*opened), {});
  FakeState& thread = target.thread;
  thread.set[Reg::rip] = 0x9000;
  thread.set[Reg::rsp] = 0x7000;
  thread.set[Reg::rax] = 3;
  thread.set[Reg::rcx] = main_at;
  thread.put(0x9000, {0x48, 0x01, 0xc8, 0x06, 0xc3});  // add rax, rcx; no instruction; ret
  thread.put_word(0x7000, main_at + 4);
  const auto code = look::code_around(modules, thread, 0x9000, 2, 4, {{0x9003, "h1 h3"}});
  ASSERT_EQ(code.size(), 4U);
  EXPECT_EQ(code[0].text, "add rax, rcx");
  EXPECT_TRUE(code[0].next);
  EXPECT_EQ(code[1].text, "(no instruction)");
  EXPECT_EQ(code[1].halts, "h1 h3");
  EXPECT_EQ(code[2].text, "ret");
  EXPECT_EQ(code[3].text, "(no memory)");
  state::RegisterSet before = thread.set;
  before[Reg::rax] = 2;
  const auto registers = look::register_rows(modules, thread, before);
  ASSERT_EQ(registers.size(), 17U);
  EXPECT_EQ(registers[0].name, "rax");
  EXPECT_EQ(registers[0].before, 2U);
  EXPECT_EQ(registers[2].address.name, "main") << "rcx";
  EXPECT_FALSE(registers[2].before);
  const auto stack = look::stack_words(modules, thread, {}, 4);
  ASSERT_EQ(stack.size(), 1U) << "what cannot be read ends it";
  EXPECT_TRUE(stack[0].top);
  EXPECT_EQ(stack[0].points_to.name, "main+4");
  const look::Foresight next = look::what_comes(target, 1, modules);
  ASSERT_EQ(next.results.size(), 1U);
  EXPECT_EQ(next.results[0].text, "rax");
  EXPECT_EQ(next.results[0].value, main_at + 3);
  target.call = 1;
  EXPECT_EQ(look::what_comes(target, 1, modules).sentence,
            "system call write is under way in the kernel; its result comes to rax when it returns");
}

// ---- location expressions -------------------------------------------------------------------------------------------

class FakeContext final : public debuginfo::LocationContext {
 public:
  explicit FakeContext(const FakeState& state) : state_(state) {}
  std::optional<std::uint64_t> reg(unsigned number) override {
    const auto found = state::reg_of_dwarf(number, state_.mode());
    return found ? std::optional(state_.set[*found]) : std::nullopt;
  }
  bool read(std::uint64_t address, std::span<std::uint8_t> into) override {
    return state_.read_memory(address, into) == into.size();
  }
  std::optional<std::uint64_t> frame_base() override { return 0x7000; }
  std::optional<std::uint64_t> cfa() override { return 0x7018; }

 private:
  const FakeState& state_;
};

/// Byte by byte as DWARF 5, section 2.5, writes them.
TEST(LocationExpressions, ComputeWhatTheStandardSays) {
  const FakeState state = gauge();
  const std::pair<std::vector<std::uint8_t>, std::uint64_t> cases[] = {
      {{0x03, 0, 0x10, 0, 0, 0, 0, 0, 0}, 0x1000},  // addr
      {{0x35}, 5},                                  // lit5
      {{0x08, 0xff}, 0xff},                         // const1u
      {{0x09, 0xff}, ~std::uint64_t(0)},            // const1s
      {{0x11, 0x7f}, ~std::uint64_t(0)},            // consts -1
      {{0x73, 0x10}, 0x1010},                       // breg3 (rbx) + 16
      {{0x91, 0x70}, 0x6ff0},                       // fbreg -16
      {{0x9c}, 0x7018},                             // call_frame_cfa
      {{0x73, 0, 0x94, 1}, 0x10},                   // breg3, deref_size 1
      {{0x73, 0, 0x06}, 0xfffffffa40302010},        // breg3, deref
      {{0x33, 0x34, 0x22}, 7},                      // lit3 lit4 plus
      {{0x33, 0x34, 0x1c}, ~std::uint64_t(0)},      // minus
      {{0x33, 0x34, 0x1e}, 12},                     // mul
      {{0x3f, 0x34, 0x1b}, 3},                      // lit15 lit4 div
      {{0x33, 0x12, 0x22}, 6},                      // dup plus
      {{0x33, 0x34, 0x16, 0x1c}, 1},                // swap minus
      {{0x33, 0x34, 0x14, 0x1c, 0x22}, 4},          // over minus plus: 3 + (4 - 3)
      {{0x33, 0x23, 0x10}, 0x13},                   // plus_uconst 16
      {{0x31, 0x34, 0x24}, 16},                     // lit1 lit4 shl
      {{0x33, 0x34, 0x2d}, 1},                      // lit3 lit4 lt
      {{0x33, 0x34, 0x2b}, 0},                      // gt
      {{0x31, 0x28, 0x01, 0x00, 0x35, 0x37}, 7},    // lit1 bra +1 (over lit5) lit7
      {{0x2f, 0x01, 0x00, 0x35, 0x37}, 7},          // skip +1 lit7
  };
  for (const auto& [bytes, wanted] : cases) {
    FakeContext context(state);
    const auto result = debuginfo::evaluate_number(bytes, {}, context);
    ASSERT_TRUE(result) << fmt::format("{:02x}", fmt::join(bytes, " "));
    EXPECT_EQ(*result, wanted) << fmt::format("{:02x}", fmt::join(bytes, " "));
  }
}

TEST(LocationExpressions, SayWherePartsAre) {
  const FakeState state = gauge();
  FakeContext context(state);
  // reg0 piece 4, fbreg 8 piece 4, an empty piece of 2 bytes, a constant of one byte as a value
  const std::vector<std::uint8_t> bytes = {0x50, 0x93, 4, 0x91, 8, 0x93, 4, 0x93, 2, 0x35, 0x9f, 0x93, 1};
  const debuginfo::Evaluated result = debuginfo::evaluate(bytes, {}, context);
  EXPECT_EQ(result.unknown, "");
  ASSERT_EQ(result.pieces.size(), 4U);
  using Kind = debuginfo::Piece::Kind;
  EXPECT_EQ(result.pieces[0].kind, Kind::reg);
  EXPECT_EQ(result.pieces[0].number, 0U);
  EXPECT_EQ(result.pieces[1].kind, Kind::memory);
  EXPECT_EQ(result.pieces[1].address, 0x7008U);
  EXPECT_EQ(result.pieces[2].kind, Kind::nowhere);
  EXPECT_EQ(result.pieces[2].bits, 16U);
  EXPECT_EQ(result.pieces[3].kind, Kind::value);
  EXPECT_EQ(result.pieces[3].bytes.at(0), 5);
}

TEST(LocationExpressions, PointersThatWereRemovedKnowTheirVariable) {
  const FakeState state = gauge();
  FakeContext context(state);
  const std::vector<std::uint8_t> bytes = {0xa0, 0x10, 0x20, 0, 0, 4};  // implicit_pointer 0x2010 4
  const debuginfo::Evaluated result = debuginfo::evaluate(bytes, {}, context);
  ASSERT_EQ(result.pieces.size(), 1U);
  EXPECT_EQ(result.pieces[0].kind, debuginfo::Piece::Kind::pointer);
  EXPECT_EQ(result.pieces[0].entry, 0x2010U);
  EXPECT_EQ(result.pieces[0].address, 4U);
}

/// gcc means 32 bits of -3 here: 0x0fffffff, and not 0xffffffff.
TEST(LocationExpressions, NumbersShiftedRightMayBeNarrower) {
  const FakeState state = gauge();
  FakeContext context(state);
  const auto doubtful = [&](std::initializer_list<int> number, bool masked, std::uint64_t size) {
    std::vector<std::uint8_t> bytes = {0x0e};  // const8u
    for (const int one : number) bytes.push_back(static_cast<std::uint8_t>(one));
    bytes.insert(bytes.end(), {0x34, 0x25});                                      // lit4 shr
    if (masked) bytes.insert(bytes.end(), {0x0c, 0xff, 0xff, 0xff, 0xff, 0x1a});  // const4u, and
    bytes.push_back(0x9f);                                                        // stack_value
    const debuginfo::Evaluated result = debuginfo::evaluate(bytes, {}, context);
    EXPECT_EQ(result.pieces.size(), 1U) << result.unknown;
    return result.pieces.at(0).is_doubtful(size);
  };
  EXPECT_TRUE(doubtful({0xfd, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}, true, 8));
  EXPECT_TRUE(doubtful({0xfd, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}, false, 4));
  EXPECT_TRUE(doubtful({0, 0, 0, 0, 0x12, 0, 0, 0}, false, 4));
  EXPECT_FALSE(doubtful({0, 0, 0, 0, 0x12, 0, 0, 0}, false, 8)) << "it has more than 32 bits";
  EXPECT_FALSE(doubtful({0xfd, 0xff, 0xff, 0xff, 0, 0, 0, 0}, true, 8)) << "both readings are the same";
}

TEST(LocationExpressions, ValuesMadeOfFrameAddressesAreMarked) {
  const FakeState state = gauge();
  FakeContext context(state);
  const debuginfo::ExpressionPlace place{.stack_pointer = 7};
  const auto marked = [&](const std::vector<std::uint8_t>& bytes) {
    const debuginfo::Evaluated result = debuginfo::evaluate(bytes, place, context);
    EXPECT_EQ(result.pieces.size(), 1U) << result.unknown;
    return !result.pieces.empty() && result.pieces[0].of_frame_address;
  };
  EXPECT_TRUE(marked({0x77, 8, 0x9f}));              // breg7 8, stack_value
  EXPECT_TRUE(marked({0x77, 8, 0x33, 0x1a, 0x9f}));  // and 3
  EXPECT_TRUE(marked({0x91, 8, 0x9f}));              // fbreg 8, stack_value
  EXPECT_FALSE(marked({0x70, 8, 0x9f})) << "rax is no address in the frame";
  EXPECT_FALSE(marked({0x33, 0x9f}));
}

TEST(LocationExpressions, DamagedOnesHaveNoResult) {
  const FakeState state = gauge();
  const std::vector<std::vector<std::uint8_t>> cases = {
      {0x22},                 // plus on an empty stack
      {0x03, 0, 0x10},        // an address that is cut off
      {0x33, 0x30, 0x1b},     // a division by 0
      {0x2f, 0xfd, 0xff},     // a jump back to itself
      {0x0a, 0, 0x50, 0x06},  // memory that cannot be read
      {0xff},                 // no operation of the standard
  };
  for (const auto& bytes : cases) {
    FakeContext context(state);
    EXPECT_FALSE(debuginfo::evaluate_number(bytes, {}, context)) << fmt::format("{:02x}", fmt::join(bytes, " "));
  }
}

// ---- rules and plans ------------------------------------------------------------------------------------------------

TEST(HaltRules, AreReadAndWrittenAlike) {
  for (const char* const text :
       {"at levels.c:31", "at level_sum+0x12 from hit 3", "at tide::report every 2",
        "at 0x401136 when i > 3 && sum != 0", "on write log.count", "on access marks[2]",
        "on change level for thread 2", "on return level_sum once", "on syscall write", "on signal SIGUSR1", "on throw",
        "on catch", "on load libtide.so", "at tide later", "at later", "at later later", "on return once once",
        "on write level for all threads", "at levels.c:31 from hit 2 every 3 when level == 'x' for thread 1 once"}) {
    const auto rule = control::parse_halt_rule(text);
    ASSERT_TRUE(rule) << text << ": " << rule.error().message;
    EXPECT_EQ(rule->text(), text);
    const auto again = control::parse_halt_rule(rule->text());
    ASSERT_TRUE(again);
    EXPECT_EQ(again->text(), rule->text());
  }
}

TEST(HaltRules, ConditionsMayHoldTheirWords) {
  const auto rule = control::parse_halt_rule("at put when name == \"once every\" once");
  ASSERT_TRUE(rule);
  EXPECT_EQ(rule->condition, "name == \"once every\"");
  EXPECT_TRUE(rule->once);
}

TEST(HaltRules, WhatIsMissingIsSaid) {
  for (const char* const text : {"", "at", "on", "on write", "on fire x", "levels.c:31", "at x from hit 0",
                                 "at x for thread", "at x when", "at x from hit y"}) {
    const auto rule = control::parse_halt_rule(text);
    EXPECT_FALSE(rule) << text;
    if (rule) continue;
    EXPECT_EQ(rule.error().fault, Fault::usage) << text;
  }
}

TEST(PlanFiles, LinesAndActionsAreTakenApart) {
  const auto plan = session::parse_plan("levels.plan", R"(# a comment

at level_sum: keep log->count, log->readings[0]; show stack
at levels.c:34 from hit 3 when i < 5: expect sum == 2925; expect text == "a; b: c"
on write log.count: show log.count
)");
  ASSERT_TRUE(plan) << plan.error().message;
  ASSERT_EQ(plan->rules.size(), 3U);
  EXPECT_EQ(plan->rules[0].line, 3U);
  ASSERT_EQ(plan->rules[0].actions.size(), 3U);
  EXPECT_EQ(plan->rules[0].actions[1].text, "log->readings[0]");
  EXPECT_EQ(plan->rules[0].actions[2].kind, session::PlanAction::Kind::show);
  EXPECT_EQ(plan->rules[1].halt.from, 3U);
  EXPECT_EQ(plan->rules[1].halt.condition, "i < 5");
  ASSERT_EQ(plan->rules[1].actions.size(), 2U);
  EXPECT_EQ(plan->rules[1].actions[1].text, "text == \"a; b: c\"");
  EXPECT_EQ(plan->rules[2].halt.kind, control::HaltRule::Kind::write);
}

TEST(PlanFiles, MistakesAreSaidWithTheirLine) {
  const std::pair<const char*, const char*> cases[] = {{"at level_sum\n", "1"},
                                                       {"# x\nat level_sum: keep\n", "2"},
                                                       {"at level_sum: do it\n", "1"},
                                                       {"\n\non fire: keep rax\n", "3"},
                                                       {"at level_sum: expect 1 +\n", "1"}};
  for (const auto& [text, line] : cases) {
    const auto plan = session::parse_plan("levels.plan", text);
    ASSERT_FALSE(plan) << text;
    EXPECT_NE(plan.error().message.find(line), std::string::npos) << plan.error().message;
    EXPECT_EQ(plan.error().message.find("levels.plan"), 0U) << plan.error().message;
  }
}

}  // namespace
}  // namespace deeptrace::tests
