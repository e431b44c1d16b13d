/* Structures that system calls read and write, as the kernel's own headers declare them: compiled for both widths when
 * the tool is built, and read from the debug information. A variable for each, of the name that linux.shapes has. */
#include <asm/ioctls.h>
#include <asm/ldt.h>
#include <asm/poll.h>
#include <asm/posix_types.h>
#include <asm/siginfo.h>
#include <asm/signal.h>
#include <asm/stat.h>
#include <asm/statfs.h>
#include <asm/termbits.h>
#include <asm/termios.h>
#include <linux/aio_abi.h>
#include <linux/capability.h>
#include <linux/eventpoll.h>
#include <linux/fcntl.h>
#include <linux/filter.h>
#include <linux/futex.h>
#include <linux/if_packet.h>
#include <linux/in.h>
#include <linux/in6.h>
#include <linux/io_uring.h>
#include <linux/landlock.h>
#include <linux/mount.h>
#include <linux/mqueue.h>
#include <linux/netlink.h>
#include <linux/openat2.h>
#include <linux/resource.h>
#include <linux/sched.h>
#include <linux/sched/types.h>
#include <linux/sem.h>
#include <linux/stat.h>
#include <linux/sysinfo.h>
#include <linux/time.h>
#include <linux/time_types.h>
#include <linux/times.h>
#include <linux/timex.h>
#include <linux/types.h>
#include <linux/uio.h>
#include <linux/un.h>
#include <linux/utsname.h>

/* What the headers for programs leave out (the kernel's include/linux/socket.h, include/linux/dirent.h). */
struct user_msghdr {
  void* msg_name;
  int msg_namelen;
  struct iovec* msg_iov;
  __kernel_size_t msg_iovlen;
  void* msg_control;
  __kernel_size_t msg_controllen;
  unsigned int msg_flags;
};
struct user_mmsghdr {
  struct user_msghdr msg_hdr;
  unsigned int msg_len;
};
struct user_cmsghdr {
  __kernel_size_t cmsg_len;
  int cmsg_level, cmsg_type;
};
struct linux_dirent64 {
  __u64 d_ino;
  __s64 d_off;
  unsigned short d_reclen;
  unsigned char d_type;
  char d_name[1];
};
struct kernel_sigaction {
  void* handler;
  unsigned long sa_flags;
  void* sa_restorer;
  unsigned long sa_mask[8 / sizeof(unsigned long)];
};
struct old_time {
  __kernel_long_t tv_sec, tv_nsec;
};
struct old_itimerspec {
  struct old_time it_interval, it_value;
};

struct stat stat;
#ifdef __i386__
struct stat64 stat64;
struct statfs64 statfs64;
#endif
struct statfs statfs;
struct statx statx;
struct old_time timespec;
struct __kernel_timespec timespec64;
struct old_itimerspec itimerspec;
struct __kernel_itimerspec itimerspec64;
struct __kernel_old_timeval timeval;
struct __kernel_old_itimerval itimerval;
struct timezone timezone;
struct timex timex;
struct tms tms;
struct rusage rusage;
struct rlimit rlimit;
struct rlimit64 rlimit64;
struct sysinfo sysinfo;
struct new_utsname new_utsname;
struct pollfd pollfd;
struct epoll_event epoll_event;
struct iovec iovec;
struct user_msghdr msghdr;
struct user_mmsghdr mmsghdr;
struct user_cmsghdr cmsghdr;
struct sockaddr_in sockaddr_in;
struct sockaddr_in6 sockaddr_in6;
struct sockaddr_un sockaddr_un;
struct sockaddr_nl sockaddr_nl;
struct sockaddr_ll sockaddr_ll;
struct kernel_sigaction sigaction;
siginfo_t siginfo;
stack_t stack;
struct sembuf sembuf;
struct __user_cap_header_struct user_cap_header;
struct __user_cap_data_struct user_cap_data;
struct user_desc user_desc;
struct io_event io_event;
struct iocb iocb;
struct sigevent sigevent;
struct mq_attr mq_attr;
struct sched_attr sched_attr;
struct clone_args clone_args;
struct open_how open_how;
struct mount_attr mount_attr;
struct landlock_ruleset_attr landlock_ruleset_attr;
struct futex_waitv futex_waitv;
struct io_uring_params io_uring_params;
struct flock flock;
#ifdef __i386__
struct flock64 flock64;
#endif
struct f_owner_ex f_owner_ex;
struct sock_fprog sock_fprog;
/* The kernel keeps these to itself: socket(7), unix(7). */
struct linger {
  int l_onoff, l_linger;
} linger;
struct ucred {
  __kernel_pid_t pid;
  __kernel_uid32_t uid;
  __kernel_gid32_t gid;
} ucred;
struct termios termios;
struct winsize winsize;
struct linux_dirent64 dirent64;
