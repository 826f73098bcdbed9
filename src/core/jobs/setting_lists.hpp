/// How lists of settings are put together.
#pragma once

#include <initializer_list>

#include "opifex/core/image/settings.hpp"

namespace opifex::jobs {

/// One behind the other; of several of one name the first.
SettingList joined(std::initializer_list<SettingList> lists);

}  // namespace opifex::jobs
