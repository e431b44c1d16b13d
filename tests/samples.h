// Sample encodings of every row of the instruction table.
#pragma once

#include <algorithm>
#include <cstdint>
#include <cstring>
#include <functional>
#include <map>
#include <random>
#include <set>
#include <vector>

#include "isa/instruction.h"

namespace deeptrace::tests {

using Code = std::vector<std::uint8_t>;

/// Everything before the opcode byte: legacy prefixes with REX, and VEX, EVEX and XOP with random contents.
struct Head {
  unsigned map;  ///< as in Row::map
  Code bytes;
};

inline std::vector<Head> sample_heads(std::mt19937& random, bool bits64) {
  std::vector<Head> heads;
  const std::vector<Code> prefixes = {
      {},           {0x66},       {0xf3},       {0xf2},       {0x67},       {0x48},       {0x41}, {0x66, 0x48},
      {0xf3, 0x48}, {0xf2, 0x48}, {0xf3, 0x4d}, {0xf2, 0x4c}, {0x66, 0x45}, {0x66, 0x67}, {0x64}, {0xf0}};
  for (const Code& prefix : prefixes) {
    if (!bits64 && !prefix.empty() && prefix.back() >= 0x40 && prefix.back() < 0x50) continue;
    const Code escapes[] = {{}, {0x0f}, {0x0f, 0x38}, {0x0f, 0x3a}, {0x0f, 0x0f}};
    for (unsigned map = 0; map < 5; ++map) {
      Head head{map, prefix};
      head.bytes.insert(head.bytes.end(), escapes[map].begin(), escapes[map].end());
      heads.push_back(head);
    }
  }
  // Fields that many rows want unused are mostly so: one bit in eight of them is set.
  const auto rarely = [&random](unsigned bits) { return static_cast<unsigned>(random() & random() & random()) & bits; };
  const unsigned extension = bits64 ? 0xe0 : 0, source = bits64 ? 0x78 : 0x38;
  for (unsigned pp = 0; pp < 4; ++pp) {
    for (unsigned w = 0; w < 2; ++w) {
      for (unsigned l = 0; l < 2; ++l) {
        for (int turn = 0; turn < 8; ++turn) {
          const unsigned last = (0x78 ^ rarely(source)) | l << 2 | pp | w << 7;
          for (const unsigned map : {1U, 2U, 3U, 8U, 9U, 10U})
            heads.push_back(
                {map < 8 ? map + 4 : map + 5,
                 {static_cast<std::uint8_t>(map < 8 ? 0xc4 : 0x8f),
                  static_cast<std::uint8_t>((0xe0 ^ rarely(extension)) | map), static_cast<std::uint8_t>(last)}});
          if (w == 0) heads.push_back({5, {0xc5, static_cast<std::uint8_t>(last | (bits64 && turn == 1 ? 0 : 0x80))}});
        }
      }
      for (const unsigned map : {1U, 2U, 3U, 5U, 6U}) {
        for (unsigned length = 0; length < 4; ++length) {
          for (int turn = 0; turn < 18; ++turn) {
            const unsigned first = 0xf0 ^ rarely(bits64 ? 0xf0 : 0);
            const unsigned second = 0x7c ^ rarely(source);
            // Plain, with a mask, with broadcast or rounding, and what comes of chance.
            const auto chance = static_cast<unsigned>(random());
            const unsigned third = turn < 3 ? 0 : turn < 12 ? 1 + chance % 7 : rarely(0x90) | (chance & 0x10);
            heads.push_back(
                {map < 4 ? map + 7 : map + 6,
                 {0x62, static_cast<std::uint8_t>(first | map), static_cast<std::uint8_t>(second | pp | w << 7),
                  static_cast<std::uint8_t>(third | length << 5 | (8 ^ rarely(bits64 ? 8 : 0)))}});
          }
        }
      }
    }
  }
  return heads;
}

using Wanted = std::function<bool(const isa::Instruction&, const Code&)>;

/// The opcodes that the table has, by map (see Row::map).
inline std::map<unsigned, std::set<std::uint8_t>> opcodes_of_maps() {
  std::map<unsigned, std::set<std::uint8_t>> result;
  for (const isa::Row& row : isa::rows()) {
    const auto uses = isa::uses_of(row);
    const bool in_opcode = std::any_of(
        uses.begin(), uses.end(), [](isa::OperandUse use) { return isa::kind_of(use).source == isa::Source::opcode; });
    for (unsigned low = 0; low < (in_opcode ? 8U : 1U); ++low)
      result[row.map].insert(static_cast<std::uint8_t>(row.opcode + low));
  }
  return result;
}

/// Encodings of every row with prefixes and operand bytes, at most `most` of each, half of them at least such as
/// `wanted` says where there are any.
inline std::map<std::uint16_t, std::vector<Code>> samples_of_all_rows(
    std::size_t most, isa::Mode mode = isa::Mode::bits64,
    const Wanted& wanted = [](const isa::Instruction&, const Code&) { return true; }) {
  std::mt19937 random(20);
  const auto opcodes = opcodes_of_maps();
  std::map<std::uint16_t, std::vector<Code>> result, others;
  std::vector<unsigned> seen(2 * isa::rows().size());
  for (const Head& head : sample_heads(random, mode == isa::Mode::bits64)) {
    Code code = head.bytes;
    code.resize(head.bytes.size() + 18);
    const bool masked = head.map == 9 && (head.bytes[3] & 7) != 0;  // gathers want much to come together
    const unsigned step = head.map < 5 || masked ? 1 : 3;
    for (const std::uint8_t opcode : opcodes.at(head.map)) {
      code[head.bytes.size()] = opcode;
      // 0xc0 is the whole of some encodings.
      for (unsigned next = 0; next < 256; next += step == 1 ? 1 : 1 + static_cast<unsigned>(random()) % 5) {
        const unsigned modrm = next ^ 0xc0;
        code[head.bytes.size() + 1] = static_cast<std::uint8_t>(modrm);
        for (std::size_t i = head.bytes.size() + 2; i < code.size(); i += 4) {
          const auto more = static_cast<std::uint32_t>(random());
          std::memcpy(code.data() + i, &more, 4);
        }
        if (head.map == 4) code[head.bytes.size()] = static_cast<std::uint8_t>(modrm);  // 3DNow!: the opcode is last
        const isa::Instruction instruction = isa::decode(code, mode);
        if (!instruction) continue;
        // Every encoding of a row is as likely as any other to be among its samples.
        Code sample(code.begin(), code.begin() + instruction.length);
        const bool first = wanted(instruction, sample);
        std::vector<Code>& into = (first ? result : others)[instruction.row];
        const std::size_t place = random() % ++seen[2U * instruction.row + (first ? 0 : 1)];
        if (into.size() < most) {
          into.push_back(std::move(sample));
        } else if (place < most) {
          into[place] = std::move(sample);
        }
      }
    }
  }
  for (auto& [row, rest] : others) {
    std::vector<Code>& list = result[row];
    if (list.size() > most / 2 && !rest.empty()) list.resize(most / 2);
    for (std::size_t i = 0; i < rest.size() && list.size() < most; ++i) list.push_back(std::move(rest[i]));
  }
  return result;
}

}  // namespace deeptrace::tests
