#include <cerrno>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <iostream>
#include <thread>

#include <fcntl.h>
#include <poll.h>
#include <pthread.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "command.hpp"

namespace {

/// A descriptor that is closed would be given to the next file that is opened, and messages would land in it.
void secure_descriptors() {
  for (const int fd : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO}) {
    if (::fcntl(fd, F_GETFD) != -1 || errno != EBADF) continue;
    // Results that nobody can get are a failure, messages that nobody wants are not.
    const int flags = fd == STDERR_FILENO ? O_WRONLY : O_RDONLY;
    if (::open("/dev/null", flags) != fd) ::_exit(opifex::cli::kDevice);
  }
}

/// NO_COLOR (no-color.org: set and not empty) and a terminal that says it is dumb are honoured.
opifex::cli::TerminalFacts terminal_of(int fd) {
  if (::isatty(fd) != 1) return {};
  const auto variable = [](const char* name) {
    const char* value = std::getenv(name);
    return std::string(value ? value : "");
  };
  winsize size{};
  const bool known = ::ioctl(fd, TIOCGWINSZ, &size) == 0 && size.ws_col > 0;
  const std::string kind = variable("TERM");
  return {known ? size.ws_col : std::size_t{80}, variable("NO_COLOR").empty() && !kind.empty() && kind != "dumb"};
}

/// Whoever has read enough of a pipe closes it: that is nothing to complain of.
bool reader_is_gone(int why) {
  pollfd out{STDOUT_FILENO, 0, 0};
  return why == EPIPE || (::poll(&out, 1, 0) == 1 && (out.revents & POLLERR) != 0);
}

/// A result that did not reach its reader is no success.
int checked_output(int code) {
  std::cout.flush();
  errno = 0;
  const bool failed = std::fflush(stdout) != 0 || std::ferror(stdout) != 0 || !std::cout;
  if (!failed) return code;
  const int why = errno;
  if (!reader_is_gone(why)) std::fprintf(stderr, "opifex: the result cannot be written to standard output\n");
  return code == opifex::cli::kDone || code == opifex::cli::kBadNews ? opifex::cli::kDevice : code;
}

}  // namespace

int main(int argc, char** argv) {
  secure_descriptors();
  // Both would end the program in the middle of a write; as errors they are told, and nothing half done stays.
  std::signal(SIGPIPE, SIG_IGN);
  std::signal(SIGXFSZ, SIG_IGN);
  // Ctrl-C: one thread waits for the signal and asks the work to stop; nothing runs in a signal handler. A second one
  // ends the program at once.
  sigset_t signals;
  sigemptyset(&signals);
  sigaddset(&signals, SIGINT);
  sigaddset(&signals, SIGTERM);
  sigaddset(&signals, SIGHUP);
  pthread_sigmask(SIG_BLOCK, &signals, nullptr);
  std::stop_source stop;
  std::thread([signals, stop]() mutable {
    int received = 0;
    sigwait(&signals, &received);
    stop.request_stop();
    sigwait(&signals, &received);
    ::_exit(opifex::cli::kInterrupted);
  }).detach();
  const std::vector<std::string> words(argv + 1, argv + argc);
  opifex::cli::Console console{std::cout, std::cerr, ::isatty(STDERR_FILENO) == 1, terminal_of(STDOUT_FILENO),
                               terminal_of(STDERR_FILENO)};
  return checked_output(opifex::cli::dispatch(words, console, stop.get_token()));
}
