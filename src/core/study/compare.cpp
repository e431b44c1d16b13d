#include "study/compare.h"

#include <algorithm>
#include <map>
#include <unordered_map>
#include <unordered_set>

#include "base/similar_names.h"
#include "isa/operand.h"
#include "program/code_scan.h"
#include "program/instances.h"
#include "program/location.h"
#include "study/alignment.h"
#include "study/function_pairs.h"

namespace deeptrace::study {
namespace {

using isa::ControlFlow;
using isa::Operand;
using program::Function;
using program::Program;

/// An instruction as it is compared: apart from where it lies, and apart from the registers it uses.
struct Shape {
  std::uint64_t address = 0;
  isa::Instruction instruction;
  std::string exact, loose;
  std::string target;       ///< what it refers to
  std::uint64_t local = 0;  ///< of a jump inside the function: where it goes
};

struct Build {
  const Program* program = nullptr;
  const Function* function = nullptr;
  std::vector<Shape> shapes;
};

constexpr std::string_view kArrow = "→";  // before what an operand refers to

class Shaper {
 public:
  explicit Shaper(const Program& program) : program_(program), scan_(program) {}

  /// A function of one name is another file's function of another.
  void call(const std::string& name, const std::string& other) { names_[name] = other; }
  /// Where the other file's variables have no names, the sections that they lie in are compared.
  void without_names_of_data(bool without) { without_data_ = without; }

  Build build_of(const Function& function) {
    Build build{&program_, &function, {}};
    program::for_each_instruction(program_, scan_.split(function.range()),
                                  [&](std::uint64_t address, const isa::Instruction& instruction) {
                                    // Padding lies between parts of the code and does nothing.
                                    if (!isa::does_nothing(instruction))
                                      build.shapes.push_back(shape_of(instruction, address, function));
                                  });
    return build;
  }

  FunctionFacts facts_of(const Build& build) {
    FunctionFacts facts;
    facts.address = program_.elf().section_offset(build.function->address);
    facts.size = build.function->size;
    facts.instructions = build.shapes.size();
    facts.frame = program::frame_of(program_, scan_, *build.function);
    for (const Shape& shape : build.shapes) {
      const ControlFlow flow = isa::flow_of(shape.instruction);
      const bool tail = flow == ControlFlow::jump && shape.local == 0 && !shape.target.empty();
      if (flow != ControlFlow::call && !tail) continue;
      std::string name = shape.target.empty() ? "(through " + operand_text(shape) + ")" : shape.target;
      if (std::ranges::find(facts.calls, name) == facts.calls.end()) facts.calls.push_back(std::move(name));
    }
    return facts;
  }

 private:
  static std::string operand_text(const Shape& shape) {
    const isa::Text text = isa::text_of(shape.instruction, shape.address, isa::Syntax::intel);
    const std::string_view all = text.view();
    const std::size_t space = all.find(' ');
    return std::string(space == std::string_view::npos ? all : all.substr(space + 1));
  }

  Shape shape_of(const isa::Instruction& instruction, std::uint64_t address, const Function& function) {
    Shape shape{address, instruction, {}, {}, {}, 0};
    shape.exact = isa::mnemonic_of(isa::row_of(instruction));
    // Prefixes that change what is done.
    if (isa::is_repeated(instruction)) shape.exact += (instruction.prefixes & isa::kPrefixRep) != 0 ? " rep" : " repne";
    if ((instruction.prefixes & isa::kPrefixLock) != 0) shape.exact += " lock";
    shape.loose = shape.exact;
    const std::optional<program::Reference> relocated = program_.relocated_reference(address, instruction.length);
    const isa::Operands operands = isa::operands_of(instruction);
    for (std::size_t i = 0; i < operands.count; ++i) {
      const Operand& operand = operands[i];
      if (operand.hidden) continue;
      add(shape, operand, function, relocated ? &*relocated : nullptr);
    }
    return shape;
  }

  static std::string width_of(const Operand& operand) { return std::to_string(operand.width); }

  void add(Shape& shape, const Operand& operand, const Function& function, const program::Reference* relocated) {
    const auto both = [&](const std::string& text) {
      shape.exact += " " + text;
      shape.loose += " " + text;
    };
    switch (operand.kind) {
      case Operand::Kind::reg:
        shape.exact += " " + std::string(isa::name_of(operand.reg));
        shape.loose +=
            " reg" + std::to_string(static_cast<int>(operand.reg.file)) + ":" + std::to_string(operand.reg.width);
        return;
      case Operand::Kind::immediate: {
        if (relocated != nullptr && shape.instruction.displacement_size == 0) {
          shape.target = words_of(*relocated);
          return both(std::string(kArrow) + shape.target);
        }
        if (const std::string name = address_name(static_cast<std::uint64_t>(operand.value)); !name.empty()) {
          shape.target = name;
          return both(std::string(kArrow) + name);
        }
        return both(std::to_string(operand.value));
      }
      case Operand::Kind::target: {
        const std::uint64_t target = shape.address + static_cast<std::uint64_t>(operand.value);
        if (relocated != nullptr) {
          shape.target = words_of(*relocated);
        } else if (function.range().holds(target)) {
          shape.local = target;
          return both("here");
        } else {
          shape.target = named(program_.reference(target).name);
        }
        return both(std::string(kArrow) + shape.target);
      }
      case Operand::Kind::far: return both(std::to_string(operand.selector) + ":" + std::to_string(operand.value));
      case Operand::Kind::memory: return add_memory(shape, operand, relocated);
      case Operand::Kind::none: return;
    }
  }

  static std::string words_of(const program::Reference& reference) {
    return reference.text.empty() ? reference.name : "\"" + reference.text + "\"";
  }
  [[nodiscard]] std::string named(const std::string& name) const {
    const auto other = names_.find(name);
    return other == names_.end() ? name : other->second;
  }
  /// What lies at an address, as both files say it.
  [[nodiscard]] std::string words_at(std::uint64_t address) const {
    const program::Reference reference = program_.reference(address);
    const bool code = program_.function_at(address) != nullptr;
    if (!reference.text.empty() || !without_data_ || code) return named(words_of(reference));
    const binary::Section* section = program_.elf().section_at(address);
    return section == nullptr ? words_of(reference) : std::string(section->name);
  }

  /// A number of a program at fixed addresses that lies in it; other numbers are numbers.
  [[nodiscard]] std::string address_name(std::uint64_t value) const {
    if (program_.elf().kind() != binary::Kind::executable || value < 0x1000) return {};
    if (program_.elf().section_at(value) == nullptr) return {};
    return words_at(value);
  }

  void add_memory(Shape& shape, const Operand& operand, const program::Reference* relocated) {
    const isa::MemoryRecipe recipe = operand.memory();
    std::string exact = "[", loose = "[";
    if (recipe.segment_forced) exact += std::string(isa::name_of(recipe.segment)) + ":";
    loose = exact;
    std::uint64_t fixed = 0;
    if (relocated != nullptr && shape.instruction.displacement_size == 4) {
      shape.target = words_of(*relocated);
    } else if (isa::fixed_memory_address(shape.instruction, shape.address, fixed)) {
      shape.target = words_at(fixed);
    }
    const bool named = !shape.target.empty();
    if (recipe.base && !recipe.is_ip_relative()) {
      exact += std::string(isa::name_of(recipe.base));
      loose += "reg";
    }
    if (recipe.index) {
      exact += "+" + std::string(isa::name_of(recipe.index)) + "*" + std::to_string(recipe.scale);
      loose += "+reg*" + std::to_string(recipe.scale);
    }
    const bool frame = recipe.base.file == isa::RegisterFile::general &&
                       (recipe.base.index == isa::kRsp || recipe.base.index == isa::kRbp) && !recipe.index;
    if (named) {
      exact += std::string(kArrow) + shape.target;
      loose += std::string(kArrow) + shape.target;
    } else {
      exact += "+" + std::to_string(recipe.displacement);
      if (frame) {
        loose = "[stack";
      } else {
        loose += "+" + std::to_string(recipe.displacement);
      }
    }
    shape.exact += " " + exact + "]:" + width_of(operand);
    shape.loose += " " + loose + "]:" + width_of(operand);
  }

  const Program& program_;
  program::CodeScan scan_;
  std::unordered_map<std::string, std::string> names_;
  bool without_data_ = false;
};

class Comparison {
 public:
  Comparison(const Program& a, const Program& b, const CompareRequest& request)
      : a_(a), b_(b), request_(request), shaper_a_(a), shaper_b_(b) {}

  Result<CompareSummary> run(CompareSink& sink) {
    const bool whole = request_.where.empty();
    Result<std::vector<FunctionPair>> pairs = whole ? all_pairs() : wanted_pairs();
    if (!pairs) return pairs.error();
    sink.begin(a_, b_, whole);
    for (const FunctionPair& pair : *pairs) {
      ComparedFunction compared = compare_pair(pair, !whole);
      if (pair.a == nullptr) compared.inlined_a = copies_of(*pair.b, a_, inlined_a_);
      if (pair.b == nullptr) compared.inlined_b = copies_of(*pair.a, b_, inlined_b_);
      ++summary_.functions;
      summary_.by_content += pair.by_content ? 1 : 0;
      const bool alone = pair.a == nullptr || pair.b == nullptr;
      const Function& one = pair.a != nullptr ? *pair.a : *pair.b;
      if (alone && one.origin == Function::Origin::recovered)
        ++(pair.a != nullptr ? summary_.unnamed_a : summary_.unnamed_b);
      summary_.bytes_a += compared.a ? compared.a->size : 0;
      summary_.bytes_b += compared.b ? compared.b->size : 0;
      if (!compared.b) {
        ++summary_.only_a;
      } else if (!compared.a) {
        ++summary_.only_b;
      } else {
        ++(compared.same ? summary_.same : summary_.changed);
      }
      sink.function(compared);
    }
    sink.end(summary_);
    return summary_;
  }

 private:
  using Counts = std::map<std::string, std::size_t, std::less<>>;
  static std::size_t copies_of(const Function& function, const Program& other, std::optional<Counts>& counts) {
    if (!counts) counts = program::inlined_counts(other);
    const std::string_view origin = program::origin_of_clone(function.symbol());
    const auto found = counts->find(origin.empty() ? function.symbol() : origin);
    return found == counts->end() ? 0 : found->second;
  }

  [[nodiscard]] static std::vector<const Function*> functions_of(const Program& program, bool all) {
    std::vector<const Function*> result;
    for (const Function& function : program.functions()) {
      if (function.origin != Function::Origin::plt && (all || program.is_own(function))) result.push_back(&function);
    }
    return result;
  }

  /// The developer's own code; of libraries of the system, which have none, all.
  Result<std::vector<FunctionPair>> all_pairs() {
    std::vector<const Function*> a = functions_of(a_, request_.all), b = functions_of(b_, request_.all);
    if (!request_.all && !request_.own_is_said && (a.empty() || b.empty())) {
      summary_.all = true;
      a = functions_of(a_, true);
      b = functions_of(b_, true);
    }
    const auto has_no_name = [](const Function* one) { return one->origin == Function::Origin::recovered; };
    const bool stripped = std::ranges::any_of(a, has_no_name) || std::ranges::any_of(b, has_no_name);
    shaper_a_.without_names_of_data(stripped);
    shaper_b_.without_names_of_data(stripped);
    const auto content_of = [](Shaper& shaper) {
      return [&shaper](const Function& function) {
        std::string content;
        // Where operands lie is left out.
        for (const Shape& shape : shaper.build_of(function).shapes)
          content += shape.exact.substr(0, shape.exact.find(kArrow)) + "\n";
        return content;
      };
    };
    std::vector<FunctionPair> pairs = pair_functions(a, b, content_of(shaper_a_), content_of(shaper_b_));
    for (const FunctionPair& pair : pairs) {
      if (!pair.by_content) continue;
      const bool by_b = pair.a->symbol().empty();
      (by_b ? shaper_a_ : shaper_b_).call((by_b ? pair.a : pair.b)->name, (by_b ? pair.b : pair.a)->name);
    }
    return pairs;
  }

  Result<std::vector<FunctionPair>> wanted_pairs() const {
    std::vector<FunctionPair> pairs;
    for (const std::string& name : request_.where) {
      const auto in = [&](const Program& program) {
        const program::Instances instances = program::instances_of(program, name, 0);
        std::vector<const Function*> found = instances.functions;
        found.insert(found.end(), instances.clones.begin(), instances.clones.end());
        if (found.empty() && program::instances_of(program, name).inlined.empty()) {
          if (const auto ranges = program::ranges_of(program, name)) {
            for (const auto& range : *ranges) {
              const Function* function = program.function_at(range.from);
              if (function != nullptr && std::ranges::find(found, function) == found.end()) found.push_back(function);
            }
          }
        }
        return found;
      };
      const std::vector<const Function*> in_a = in(a_), in_b = in(b_);
      if (in_a.empty() && in_b.empty()) {
        const program::Instances instances = program::instances_of(a_, name);
        if (!instances.ambiguous.empty()) return Error{Fault::usage, name + ": " + instances.ambiguous};
        if (!instances.empty() || !program::instances_of(b_, name).empty())
          return Error{Fault::usage, name + ": is only inlined in other functions in both files; compare those"};
        std::string message = name + ": neither file has a function of that name";
        message += similar_words(program::similar_names(a_, name));
        return Error{Fault::usage, message};
      }
      for (std::size_t i = 0; i < std::max(in_a.size(), in_b.size()); ++i)
        pairs.push_back({i < in_a.size() ? in_a[i] : nullptr, i < in_b.size() ? in_b[i] : nullptr, false});
    }
    return pairs;
  }

  FunctionFacts facts_of(Shaper& shaper, const Build& build) const {
    FunctionFacts facts = shaper.facts_of(build);
    if (request_.frames && !request_.where.empty())
      facts.explained = explain_frame(*build.program, *build.function, request_.syntax);
    return facts;
  }

  ComparedFunction compare_pair(const FunctionPair& pair, bool rows) {
    ComparedFunction out;
    const bool by_b = pair.a == nullptr || (pair.b != nullptr && pair.a->symbol().empty());
    out.name = (by_b ? pair.b : pair.a)->name;
    out.by_content = pair.by_content;
    if (!by_b && pair.b != nullptr && !pair.by_content && out.name != std::string_view(pair.b->name))
      out.name_in_b = pair.b->name;
    Build a{&a_, nullptr, {}}, b{&b_, nullptr, {}};
    if (pair.a != nullptr) {
      a = shaper_a_.build_of(*pair.a);
      out.a = facts_of(shaper_a_, a);
    }
    if (pair.b != nullptr) {
      b = shaper_b_.build_of(*pair.b);
      out.b = facts_of(shaper_b_, b);
    }
    out.rows = lay_out(a, b);
    for (const ComparedRow& row : out.rows) ++out.counts[static_cast<std::size_t>(row.difference)];
    using enum Difference;
    for (const Difference real : {changed, only_a, only_b, moved})
      out.same &= out.counts[static_cast<std::size_t>(real)] == 0;
    if (!rows) out.rows.clear();
    return out;
  }

  std::vector<ComparedRow> lay_out(const Build& a, const Build& b) const {
    std::unordered_map<std::string_view, std::size_t> numbers;
    const auto number = [&](std::string_view text) { return numbers.try_emplace(text, numbers.size()).first->second; };
    struct Keys {
      std::vector<std::size_t> exact, loose;
      std::vector<std::uint16_t> mnemonic;
      std::vector<std::uint32_t> lines;
    };
    const auto keys_of = [&](const Build& build) {
      Keys keys;
      for (const Shape& shape : build.shapes) {
        keys.exact.push_back(number(shape.exact));
        keys.loose.push_back(number(shape.loose));
        keys.mnemonic.push_back(isa::row_of(shape.instruction).mnemonic);
        const auto line = build.program->lines().at(shape.address);
        keys.lines.push_back(line ? line->line : 0);
      }
      return keys;
    };
    const Keys keys_a = keys_of(a), keys_b = keys_of(b);
    const auto likeness = [&](std::size_t i, std::size_t k) {
      if (keys_a.exact[i] == keys_b.exact[k]) return 4;
      if (keys_a.loose[i] == keys_b.loose[k]) return 3;
      // The same operation with other operands goes together where it serves the same line.
      return keys_a.mnemonic[i] == keys_b.mnemonic[k] && keys_a.lines[i] == keys_b.lines[k] ? 1 : 0;
    };
    const std::vector<AlignedPair> pairs = align(keys_a.exact, keys_b.exact, likeness);
    Partners partners;
    for (const AlignedPair& pair : pairs) {
      if (pair.a < 0 || pair.b < 0) continue;
      const std::uint64_t in_b = b.shapes[static_cast<std::size_t>(pair.b)].address;
      partners.of_a.emplace(a.shapes[static_cast<std::size_t>(pair.a)].address, in_b);
      partners.in_b.insert(in_b);
    }
    std::vector<ComparedRow> rows;
    for (const AlignedPair& pair : pairs) {
      ComparedRow row;
      const Shape* left = pair.a >= 0 ? &a.shapes[static_cast<std::size_t>(pair.a)] : nullptr;
      const Shape* right = pair.b >= 0 ? &b.shapes[static_cast<std::size_t>(pair.b)] : nullptr;
      if (left != nullptr) row.a = shown(a, *left);
      if (right != nullptr) row.b = shown(b, *right);
      row.difference = left == nullptr                       ? Difference::only_b
                       : right == nullptr                    ? Difference::only_a
                       : !same_jump(*left, *right, partners) ? Difference::changed
                       : left->exact == right->exact         ? Difference::same
                       : left->loose == right->loose         ? Difference::allocation
                                                             : Difference::changed;
      rows.push_back(std::move(row));
    }
    mark_moved(a, b, pairs, rows);
    return rows;
  }

  /// Instructions that stand beside each other.
  struct Partners {
    std::unordered_map<std::uint64_t, std::uint64_t> of_a;
    std::unordered_set<std::uint64_t> in_b;
  };

  /// A jump inside the function goes to the same instruction; what it skips may differ. Targets on rows that have no
  /// partner are let through: the row itself is shown.
  static bool same_jump(const Shape& a, const Shape& b, const Partners& partners) {
    if (a.local == 0 || b.local == 0) return true;
    const auto found = partners.of_a.find(a.local);
    if (found == partners.of_a.end()) return true;
    return found->second == b.local || !partners.in_b.contains(b.local);
  }

  static void mark_moved(const Build& a, const Build& b, const std::vector<AlignedPair>& pairs,
                         std::vector<ComparedRow>& rows) {
    std::unordered_map<std::string_view, std::vector<std::size_t>> left;
    for (std::size_t i = 0; i < pairs.size(); ++i) {
      if (rows[i].difference == Difference::only_a)
        left[a.shapes[static_cast<std::size_t>(pairs[i].a)].exact].push_back(i);
    }
    for (std::size_t i = 0; i < pairs.size(); ++i) {
      if (rows[i].difference != Difference::only_b) continue;
      const auto found = left.find(b.shapes[static_cast<std::size_t>(pairs[i].b)].exact);
      if (found == left.end() || found->second.empty()) continue;
      rows[found->second.back()].difference = Difference::moved;
      rows[i].difference = Difference::moved;
      found->second.pop_back();
    }
  }

  [[nodiscard]] ComparedInstruction shown(const Build& build, const Shape& shape) const {
    ComparedInstruction one;
    one.present = true;
    one.address = build.program->elf().section_offset(shape.address);
    one.offset = shape.address - build.function->address;
    one.text = isa::text_of(shape.instruction, one.address, request_.syntax).view();
    one.target = shape.target;
    if (shape.local != 0) one.target = build.program->reference(shape.local).name;
    if (const auto line = build.program->lines().at(shape.address)) one.line = line->line;
    return one;
  }

  const Program& a_;
  const Program& b_;
  const CompareRequest& request_;
  Shaper shaper_a_, shaper_b_;
  CompareSummary summary_;
  std::optional<Counts> inlined_a_, inlined_b_;
};

}  // namespace

std::string_view name_of(Difference difference) {
  constexpr std::string_view kNames[] = {"same", "allocation", "changed", "only_a", "only_b", "moved"};
  return kNames[static_cast<std::size_t>(difference)];
}

Result<CompareSummary> compare(const Program& a, const Program& b, const CompareRequest& request, CompareSink& sink) {
  return Comparison(a, b, request).run(sink);
}

}  // namespace deeptrace::study
