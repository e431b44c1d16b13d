// What `explain` says of system calls, errors, signals and constants, against the headers of this machine.
#include "study/explain_system.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/time.h>

#include <algorithm>
#include <cerrno>
#include <csignal>
#include <cstddef>
#include <cstring>
#include <map>
#include <nlohmann/json.hpp>

#include "abi/call_errors.h"
#include "abi/call_shapes.h"
#include "live_support.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

TEST(ExplainSystem, CallsHaveNumbersRegistersAndErrors) {
  for (const auto& [name, number] : {std::pair("write", SYS_write), std::pair("openat", SYS_openat),
                                     std::pair("mmap", SYS_mmap), std::pair("accept4", SYS_accept4)}) {
    const json by_name = explained({"syscall", name})["syscall"];
    EXPECT_EQ(by_name["forms"][0]["number"], number);
    EXPECT_EQ(explained({"syscall", std::to_string(number)})["syscall"], by_name);
  }
  const json write = explained({"syscall", "4", "--bits", "32"})["syscall"];
  EXPECT_EQ(write["name"], "write");
  EXPECT_EQ(write["same_number"], "stat");  // of 64-bit programs
  EXPECT_EQ(write["forms"][0]["arguments"][1]["register"], "ecx");
  EXPECT_EQ(write["forms"][1]["arguments"][1]["register"], "rsi");
  EXPECT_EQ(write["forms"][0]["instruction"], "int 0x80");
  // The fourth argument is where `syscall` leaves it alone, not where functions have it.
  EXPECT_EQ(explained({"syscall", "mmap"})["syscall"]["forms"][0]["arguments"][3]["register"], "r10");
  const json connect = explained({"syscall", "connect"})["syscall"];
  EXPECT_EQ(connect["forms"][0]["arguments"][1]["meaning"],
            "pointer to socket address, which the kernel reads: addrlen bytes");
  std::vector<std::string> errors;
  for (const json& one : connect["errors"]) errors.push_back(one["name"]);
  for (const char* wanted : {"EBADF", "EFAULT", "ECONNREFUSED", "ENOTSOCK"})
    EXPECT_NE(std::ranges::find(errors, wanted), errors.end()) << wanted;
  EXPECT_EQ(std::ranges::find(errors, "ENOENT"), errors.end());
}

TEST(ExplainSystem, FlagsAndStructuresAreThoseOfTheHeaders) {
  const json open = explained({"syscall", "open"})["syscall"];
  std::map<std::string, std::string> flags;
  for (const json& one : open["constants"][0]["of"]) flags[one["name"]] = one["value"];
  EXPECT_EQ(open["constants"][0]["argument"], "flags");
  EXPECT_EQ(flags.at("O_CREAT"), std::to_string(O_CREAT));
  EXPECT_EQ(flags.at("O_CLOEXEC"), std::to_string(O_CLOEXEC));
  const json fstat = explained({"syscall", "fstat"})["syscall"]["structures"][0];
  EXPECT_EQ(fstat["size"], sizeof(struct stat));
  std::map<std::string, std::size_t> at;
  for (const json& one : fstat["fields"]) at[one["declaration"].get<std::string>()] = one["offset"];
  const auto offset_of = [&](const std::string& field) {
    const auto found = std::ranges::find_if(at, [&](const auto& one) { return one.first.ends_with(" " + field); });
    return found != at.end() ? found->second : std::size_t(-1);
  };
  EXPECT_EQ(offset_of("st_mode"), offsetof(struct stat, st_mode));
  EXPECT_EQ(offset_of("st_size"), offsetof(struct stat, st_size));
  EXPECT_EQ(offset_of("st_blocks"), offsetof(struct stat, st_blocks));
  EXPECT_GE(at.size(), 15U);
}

TEST(ExplainSystem, ErrorsByNameNumberAndRegister) {
  for (const std::vector<std::string>& words : {std::vector<std::string>{"error", "EFAULT"},
                                                {"error", "-14"},
                                                {"error", "14"},
                                                {"error", "efault"},
                                                {"EFAULT"},
                                                {"error", "0xfffffffffffffff2"},
                                                {"error", "0xfffffff2"}}) {
    const json error = explained(words)["error"];
    EXPECT_EQ(error["number"], EFAULT) << words.back();
    EXPECT_EQ(error["meaning"], std::strerror(EFAULT));
    EXPECT_FALSE(error["cause"].is_null());
  }
  EXPECT_EQ(explained({"error", "EWOULDBLOCK"})["error"]["name"], "EAGAIN");
  for (const int error : abi::errors()) EXPECT_EQ(abi::error_named(abi::error_name(error)), error);
  for (const auto& words : {std::vector<std::string>{"error", "0"}, {"error", "-5000"}, {"error", "EFAULTY"}}) {
    std::vector<std::string> all = {"explain"};
    all.insert(all.end(), words.begin(), words.end());
    EXPECT_EQ(deeptrace(all).status, 2) << words.back();
  }
  EXPECT_NE(deeptrace({"explain", "error", "EFAULTY"}).err.find("EFAULT"), std::string::npos);
}

TEST(ExplainSystem, SignalsAndConstants) {
  for (const char* word : {"SIGSEGV", "segv", "11"}) {
    const json signal = explained({"signal", word})["signal"];
    EXPECT_EQ(signal["number"], SIGSEGV);
    EXPECT_EQ(signal["meaning"], ::sigdescr_np(SIGSEGV));
  }
  EXPECT_EQ(explained({"constant", "AF_INET6"})["constants"][0]["value"], std::to_string(AF_INET6));
  const json sum = explained({"constant", "PROT_READ|PROT_EXEC"})["constants"];
  EXPECT_EQ(sum[0]["value"], std::to_string(PROT_READ | PROT_EXEC));
  EXPECT_EQ(sum[1]["name"], "PROT_READ");
  std::vector<std::string> of_value;
  const json all = explained({"constant", std::to_string(SOCK_CLOEXEC)})["constants"];
  for (const json& one : all) of_value.push_back(one["name"]);
  EXPECT_NE(std::ranges::find(of_value, "SOCK_CLOEXEC"), of_value.end());
  EXPECT_NE(std::ranges::find(of_value, "O_CLOEXEC"), of_value.end());
  EXPECT_EQ(deeptrace({"explain", "constant", "O_CREATE|O_RDWR"}).status, 2);
}

TEST(ExplainSystem, ABareWordFindsThem) {
  EXPECT_TRUE(explained({"nanosleep"}).contains("syscall"));
  EXPECT_TRUE(explained({"O_CREAT"}).contains("constants"));
  // "read" and the like are no instructions; "pause" is one, and a call.
  const json pause = explained({"pause"});
  EXPECT_TRUE(pause.contains("instruction") && pause.contains("syscall"));
  const Outcome number = deeptrace({"explain", "11"});
  EXPECT_NE(number.out.find("as a signal       SIGSEGV"), std::string::npos) << number.out;
  EXPECT_NE(number.out.find(fmt::format("as an error       {}", ::strerrorname_np(11))), std::string::npos);
  EXPECT_NE(number.out.find("as a system call  munmap in 64-bit programs, execve in 32-bit programs"),
            std::string::npos);
}

TEST(ExplainSystem, EveryCallCanBeExplained) {
  for (const auto table : {abi::CallTable::x86_64, abi::CallTable::i386}) {
    for (const abi::SystemCall& call : abi::system_calls(table)) {
      const auto found =
          study::explain_call(call.name, table == abi::CallTable::x86_64 ? isa::Mode::bits64 : isa::Mode::bits32);
      ASSERT_TRUE(found) << call.name;
      EXPECT_EQ(found->forms[0].number, call.number) << call.name;
      EXPECT_EQ(found->forms[0].arguments.size(), abi::call_shape(call.name, table)->arguments.size()) << call.name;
    }
  }
}

}  // namespace
}  // namespace deeptrace::tests
