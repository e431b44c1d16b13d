// Sample encodings of every row of the instruction table.
#pragma once

#include <cstdint>
#include <map>
#include <random>
#include <vector>

#include "isa/instruction.h"

namespace deeptrace::tests {

using Code = std::vector<std::uint8_t>;

/// Encodings over all opcodes with prefixes and operand bytes, some of each row.
inline std::map<std::uint16_t, std::vector<Code>> samples_of_all_rows(std::size_t most) {
  const std::vector<Code> prefixes = {{},           {0x66},       {0xf3},       {0xf2},       {0x48}, {0x41},
                                      {0x66, 0x48}, {0xf3, 0x48}, {0xf3, 0x4d}, {0xf2, 0x4c}, {0x67}, {0x66, 0x45}};
  std::vector<Code> maps = {{}, {0x0f}, {0x0f, 0x38}, {0x0f, 0x3a}};
  for (const int pp : {0x00, 0x01, 0x02, 0x03, 0x80, 0x81, 0x82, 0x83}) {
    for (const int map : {0xe2, 0xe3, 0xc2})
      maps.push_back({0xc4, static_cast<std::uint8_t>(map), static_cast<std::uint8_t>(0x68 | pp)});
  }
  std::mt19937 random(20);
  std::map<std::uint16_t, std::vector<Code>> result;
  for (const Code& prefix : prefixes) {
    for (const Code& map : maps) {
      if (map.size() == 3 && !prefix.empty()) continue;
      for (unsigned opcode = 0; opcode < 256; ++opcode) {
        for (unsigned modrm = 0; modrm < 256; modrm += 1 + static_cast<unsigned>(random() % 5)) {
          Code code = prefix;
          code.insert(code.end(), map.begin(), map.end());
          code.push_back(static_cast<std::uint8_t>(opcode));
          code.push_back(static_cast<std::uint8_t>(modrm));
          while (code.size() < 20) code.push_back(static_cast<std::uint8_t>(random()));
          const isa::Instruction instruction = isa::decode(code, isa::Mode::bits64);
          if (!instruction) continue;
          code.resize(instruction.length);
          std::vector<Code>& list = result[instruction.row];
          if (list.size() < most) list.push_back(std::move(code));
        }
      }
    }
  }
  return result;
}

}  // namespace deeptrace::tests
