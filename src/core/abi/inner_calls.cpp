#include "abi/inner_calls.h"

#include <algorithm>

#include "abi/constants.h"

namespace deeptrace::abi {
namespace {

constexpr std::string_view kTwo = "[ecx] [ecx+4]", kThree = "[ecx] [ecx+4] [ecx+8]",
                           kFour = "[ecx] [ecx+4] [ecx+8] [ecx+12]", kFive = "[ecx] [ecx+4] [ecx+8] [ecx+12] [ecx+16]",
                           kSix = "[ecx] [ecx+4] [ecx+8] [ecx+12] [ecx+16] [ecx+20]";

// send and recv are sendto and recvfrom without an address. ipc(2) has its numbers and the pointer in their own places;
// the first version of msgrcv, and semctl, find more where the pointer leads.
constexpr InnerCall kCalls[] = {
    {"socketcall", "SYS_SOCKET", "socket", kThree},
    {"socketcall", "SYS_BIND", "bind", kThree},
    {"socketcall", "SYS_CONNECT", "connect", kThree},
    {"socketcall", "SYS_LISTEN", "listen", kTwo},
    {"socketcall", "SYS_ACCEPT", "accept", kThree},
    {"socketcall", "SYS_GETSOCKNAME", "getsockname", kThree},
    {"socketcall", "SYS_GETPEERNAME", "getpeername", kThree},
    {"socketcall", "SYS_SOCKETPAIR", "socketpair", kFour},
    {"socketcall", "SYS_SEND", "sendto", kFour},
    {"socketcall", "SYS_RECV", "recvfrom", kFour},
    {"socketcall", "SYS_SENDTO", "sendto", kSix},
    {"socketcall", "SYS_RECVFROM", "recvfrom", kSix},
    {"socketcall", "SYS_SHUTDOWN", "shutdown", kTwo},
    {"socketcall", "SYS_SETSOCKOPT", "setsockopt", kFive},
    {"socketcall", "SYS_GETSOCKOPT", "getsockopt", kFive},
    {"socketcall", "SYS_SENDMSG", "sendmsg", kThree},
    {"socketcall", "SYS_RECVMSG", "recvmsg", kThree},
    {"socketcall", "SYS_ACCEPT4", "accept4", kFour},
    {"socketcall", "SYS_RECVMMSG", "recvmmsg", kFive},
    {"socketcall", "SYS_SENDMMSG", "sendmmsg", kFour},
    {"ipc", "SEMOP", "semop", "ecx edi edx"},
    {"ipc", "SEMGET", "semget", "ecx edx esi"},
    {"ipc", "SEMCTL", "semctl", "ecx edx esi [edi]"},
    {"ipc", "SEMTIMEDOP", "semtimedop", "ecx edi edx ebp"},
    {"ipc", "MSGSND", "msgsnd", "ecx edi edx esi"},
    {"ipc", "MSGRCV", "msgrcv", "ecx [edi] edx [edi+4] esi", "ecx edi edx ebp esi"},
    {"ipc", "MSGGET", "msgget", "ecx edx"},
    {"ipc", "MSGCTL", "msgctl", "ecx edx edi"},
    {"ipc", "SHMAT", "shmat", "ecx edi edx"},
    {"ipc", "SHMDT", "shmdt", "edi"},
    {"ipc", "SHMGET", "shmget", "ecx edx esi"},
    {"ipc", "SHMCTL", "shmctl", "ecx edx edi"},
};

}  // namespace

const InnerCall* inner_call(std::string_view outer, std::uint64_t first_argument) {
  constexpr std::uint64_t kNumber = 0xffff;
  const auto found = std::ranges::find_if(kCalls, [&](const InnerCall& one) {
    if (one.outer != outer) return false;
    const Constant* number = constant(one.constant);
    return number != nullptr && static_cast<std::uint64_t>(number->value) == (first_argument & kNumber);
  });
  return found != std::end(kCalls) ? &*found : nullptr;
}

std::span<const InnerCall> inner_calls() { return kCalls; }

}  // namespace deeptrace::abi
