// What a page carries with it: src/report/page, put into the program when it is built.
#pragma once

namespace opifex::report {

extern const char* const kPageStyle;
extern const char* const kPageScript;

}  // namespace opifex::report
