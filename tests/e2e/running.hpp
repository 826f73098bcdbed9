#pragma once

#include <csignal>

#include <fcntl.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include "testkit.hpp"

namespace opifex::testkit {

/// A run of the program that can be killed.
class Running {
 public:
  Running(const fs::path& folder, std::vector<std::string> words) {
    words.insert(words.begin(), OPIFEX_PROGRAM);
    std::vector<char*> arguments;
    for (std::string& w : words) arguments.push_back(w.data());
    arguments.push_back(nullptr);
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_addchdir_np(&actions, folder.c_str());
    for (const int fd : {1, 2}) posix_spawn_file_actions_addopen(&actions, fd, "/dev/null", O_WRONLY, 0);
    EXPECT_EQ(posix_spawn(&pid_, OPIFEX_PROGRAM, &actions, nullptr, arguments.data(), environ), 0);
    posix_spawn_file_actions_destroy(&actions);
  }
  void kill(int signal) const { ::kill(pid_, signal); }
  /// Exit code, or minus the signal that ended it.
  int wait() const {
    int status = 0;
    ::waitpid(pid_, &status, 0);
    return WIFEXITED(status) ? WEXITSTATUS(status) : -WTERMSIG(status);
  }

 private:
  pid_t pid_ = 0;
};

}  // namespace opifex::testkit
