/// What a running dump holds open.
#pragma once

#include "opifex/core/dump/dump.hpp"

namespace opifex::dump {

struct Dump::Parts {
  std::unique_ptr<DriveTransport> own_transport = {};
  DriveTransport* transport = nullptr;
  std::unique_ptr<Drive> drive = {};  ///< null: plain reads
  std::unique_ptr<SectorReader> reader = {};
  std::optional<AesKey> key = {};
  SourcePtr blocks = {};  ///< of a disc of blocks, read as they are wanted
};

}  // namespace opifex::dump
