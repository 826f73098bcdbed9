/// The files inside an image, as JSON and as people read them.
#pragma once

#include "opifex/core/check/compare.hpp"
#include "opifex/core/convert/extract.hpp"
#include "opifex/core/jobs/files.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

/// How a list of files is laid out.
enum class FilesView { flat, tree };

/// Entries below `path` (all if empty), folders before what is in them. Refers to what is listed.
LongResult files_json(const jobs::Listed& listed);
std::string files_text(const jobs::Listed& listed, FilesView view);

/// Refers to `files`.
LongResult extract_json(const jobs::ExtractedFiles& files);
std::string extract_text(const jobs::ExtractedFiles& files);

Json comparison_json(const Image& here, const std::string& other, const Comparison& result);
std::string comparison_text(const Image& here, const std::string& other, const Comparison& result);

/// "2001-07-02 00:00", UTC; empty if not given.
std::string date_text(const std::optional<std::int64_t>& seconds);

}  // namespace opifex::report
