/// A cartridge reader by the name the user gives it: a serial port, or "sim:FILE.toml".
#pragma once

#include <filesystem>
#include <memory>
#include <string>

#include "opifex/core/dump/sim_port.hpp"

namespace opifex::dump {

/// What a file of a simulated reader says (docs/simulated-reader.md).
struct ReaderDescription {
  SimReaderSetup setup;
  std::filesystem::path rom, save, other;  ///< files; empty: none
};
/// Error (refused, "bad_simulation").
ReaderDescription load_reader(const std::filesystem::path& file);

/// True of a serial port, or of a simulation of a reader, not of a drive.
bool is_reader(const std::string& source);

class ReaderSource {
 public:
  /// Opens it. Error (device) if there is none, (refused) for a file that describes none.
  explicit ReaderSource(const std::string& source);
  ~ReaderSource();
  ReaderSource(const ReaderSource&) = delete;
  ReaderSource& operator=(const ReaderSource&) = delete;
  ReaderLink& link() { return *link_; }
  const std::string& port() const { return port_; }
  /// The files of a simulation: never written but for its own save memory.
  const std::vector<std::filesystem::path>& files() const { return files_; }
  /// The save memory of a simulated cartridge goes back into its file, as a battery would keep it.
  void keep_save();

 private:
  std::string port_;
  ReaderDescription description_;
  Bytes save_before_;
  std::unique_ptr<SimReaderPort> simulated_;
  std::unique_ptr<ReaderLink> link_;
  std::vector<std::filesystem::path> files_;
};

}  // namespace opifex::dump
