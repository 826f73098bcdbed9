// A real serial line, and the pseudo-terminal behind which the simulated reader sits.
#include <atomic>
#include <boost/asio/io_context.hpp>
#include <boost/asio/read.hpp>
#include <boost/asio/serial_port.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/write.hpp>
#include <chrono>
#include <mutex>
#include <thread>

#include <fcntl.h>
#include <poll.h>
#include <pty.h>
#include <termios.h>
#include <unistd.h>

#include "opifex/core/dump/sim_port.hpp"
#include "opifex/core/io/file_descriptor.hpp"

namespace opifex::dump {
namespace {

namespace asio = boost::asio;
using Clock = std::chrono::steady_clock;

std::uint64_t ms_since(Clock::time_point start) {
  return static_cast<std::uint64_t>(
      std::chrono::duration_cast<std::chrono::milliseconds>(Clock::now() - start).count());
}

class PortLink final : public ReaderLink {
 public:
  explicit PortLink(const std::filesystem::path& path) : path_(path), port_(io_) {
    boost::system::error_code error;
    port_.open(path.string(), error);
    if (error) fail("no_port", "the port cannot be opened", error.message());
    if (::isatty(port_.native_handle()) == 0) fail("no_port", "this is no serial port", "a device of another kind");
    using Port = asio::serial_port_base;
    try {
      port_.set_option(Port::baud_rate(115'200));
      port_.set_option(Port::character_size(8));
      port_.set_option(Port::parity(Port::parity::none));
      port_.set_option(Port::stop_bits(Port::stop_bits::one));
      port_.set_option(Port::flow_control(Port::flow_control::none));
    } catch (const boost::system::system_error& e) {
      fail("no_port", "the port cannot be set up", e.code().message());
    }
    // Raw: no echo, no line editing, no translation of line ends.
    termios settings{};
    if (::tcgetattr(port_.native_handle(), &settings) != 0) fail("no_port", "the port cannot be set up", "");
    ::cfmakeraw(&settings);
    ::tcsetattr(port_.native_handle(), TCSANOW, &settings);
  }

  void write(ByteView bytes) override {
    boost::system::error_code error;
    asio::write(port_, asio::buffer(bytes.data(), bytes.size()), error);
    if (error) fail("port_lost", "the line to the reader is gone", error.message());
  }

  std::size_t read(std::span<std::byte> out, unsigned timeout_ms) override {
    std::size_t came = 0;
    boost::system::error_code failure;
    port_.async_read_some(asio::buffer(out.data(), out.size()),
                          [&](const boost::system::error_code& error, std::size_t n) {
                            came = n;
                            failure = error;
                          });
    io_.restart();
    if (io_.run_for(std::chrono::milliseconds(timeout_ms)) == 0) {
      port_.cancel();
      io_.restart();
      io_.run();  // the handler has to be gone before what it refers to
    }
    if (failure && failure != asio::error::operation_aborted)
      fail("port_lost", "the line to the reader is gone", failure.message());
    return came;
  }

  std::uint64_t now_ms() const override { return ms_since(start_); }
  void wait(unsigned ms) override { std::this_thread::sleep_for(std::chrono::milliseconds(ms)); }

 private:
  [[noreturn]] void fail(const char* code, const char* what, std::string found) const {
    throw Error({.fault = Fault::device,
                 .code = code,
                 .what = what,
                 .file = path_.string(),
                 .found = std::move(found),
                 .hint = "check that the reader is plugged in and you may use its port (the group dialout)"});
  }

  std::filesystem::path path_;
  asio::io_context io_;
  asio::serial_port port_;
  Clock::time_point start_ = Clock::now();
};

}  // namespace

std::unique_ptr<ReaderLink> open_port(const std::filesystem::path& path) { return std::make_unique<PortLink>(path); }

struct SimReaderPort::Served {
  explicit Served(SimReaderSetup setup) : reader(std::move(setup)) {}
  SimReader reader;
  mutable std::mutex mutex;
  FileDescriptor own, kept;  // kept: our hold on the other end, so that it does not hang up between two users
  std::string path;
  std::jthread thread;

  void serve(const std::stop_token& stop) {
    const Clock::time_point start = Clock::now();
    std::array<std::byte, 4096> buffer;
    Bytes pending;
    while (!stop.stop_requested()) {
      {
        const std::lock_guard lock(mutex);
        if (pending.empty()) pending = reader.send(ms_since(start), buffer.size());
      }
      pollfd wanted{own, static_cast<short>(pending.empty() ? POLLIN : POLLIN | POLLOUT), 0};
      constexpr int kStepMs = 2;
      if (::poll(&wanted, 1, kStepMs) <= 0) continue;
      if ((wanted.revents & POLLOUT) != 0) {
        const ssize_t n = ::write(own, pending.data(), pending.size());
        if (n > 0) pending.erase(pending.begin(), pending.begin() + n);
      }
      if ((wanted.revents & POLLIN) != 0) {
        const ssize_t n = ::read(own, buffer.data(), buffer.size());
        const std::lock_guard lock(mutex);
        if (n > 0) reader.receive(ByteView(buffer).first(static_cast<std::size_t>(n)), ms_since(start));
      }
    }
  }
};

SimReaderPort::SimReaderPort(SimReaderSetup setup) : served_(std::make_unique<Served>(std::move(setup))) {
  int own = -1, other = -1;
  std::array<char, 256> name{};
  termios raw{};
  ::cfmakeraw(&raw);
  if (::openpty(&own, &other, name.data(), &raw, nullptr) != 0)
    throw_system_error("a pseudo-terminal cannot be made", "/dev/ptmx", errno);
  served_->own = FileDescriptor(own);
  served_->kept = FileDescriptor(other);
  ::fcntl(own, F_SETFL, O_NONBLOCK);
  served_->path = name.data();
  served_->thread = std::jthread([served = served_.get()](std::stop_token stop) { served->serve(stop); });
}

SimReaderPort::~SimReaderPort() = default;

const std::string& SimReaderPort::path() const { return served_->path; }

Bytes SimReaderPort::save() const {
  const std::lock_guard lock(served_->mutex);
  return served_->reader.save();
}

}  // namespace opifex::dump
