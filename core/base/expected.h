#pragma once

#include <fmt/core.h>
#include <string>
#include <tl/expected.hpp>
#include <utility>

namespace pinion {

/// Who has to act on an error; the command line turns it into its exit status.
enum class Fault {
    input,    ///< a file, a number or a word that was given is wrong (exit status 2)
    outcome,  ///< the input is fine, but the job could not reach a result (exit status 1)
    system,   ///< the disk is full, a permission is missing, a device is absent (exit status 1)
    stopped   ///< the artist stopped it (exit status 130)
};

/// What went wrong, said to the artist: what happened, where, and what to do about it.
struct Error {
    Fault fault = Fault::input;
    std::string message;
};

/// A value, or the reason why there is none.
template <class T>
using Expected = tl::expected<T, Error>;

/// `return failure(Fault::input, "{}: not a video", path);`
template <class... Args>
tl::unexpected<Error> failure(Fault fault, fmt::format_string<Args...> format, Args&&... args) {
    return tl::unexpected(Error{fault, fmt::format(format, std::forward<Args>(args)...)});
}

}  // namespace pinion
