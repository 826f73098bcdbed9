#include <csignal>
#include <thread>

#include <pthread.h>
#include <unistd.h>

#include "command.hpp"

int main(int argc, char** argv) {
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
  return opifex::cli::dispatch(words, stop.get_token());
}
