#pragma once

// Helpers for sources that read and write JSON; never included by a header, since nlohmann-json is heavy.

#include "base/expected.h"
#include "base/files.h"
#include "base/framerate.h"

#include <filesystem>
#include <functional>
#include <nlohmann/json.hpp>
#include <optional>
#include <string>

namespace pinion::jsonfile {

using nlohmann::json;

/// Thrown while reading, with the place inside the file; turned into an Expected by `parseFile`.
struct Malformed {
    std::string what;
};

[[noreturn]] void malformed(const std::string& what);

/// As text; what is no UTF-8 is replaced by U+FFFD rather than thrown at whoever saves.
std::string dumped(const json& value, int indent = -1);

/// With every number finite, which JSON has no others: what is none becomes 0, what is without bounds very large.
void makeFinite(json& value);

/// A member that has to be there.
const json& member(const json& object, const char* name, const std::string& where);
double number(const json& value, const std::string& where);
double number(const json& object, const char* name, const std::string& where);
int whole(const json& value, const std::string& where);
int whole(const json& object, const char* name, const std::string& where);
/// A whole number that is not negative: an id or a fingerprint.
std::uint64_t key(const json& object, const char* name, const std::string& where);
bool flagOr(const json& object, const char* name, bool otherwise, const std::string& where);
std::string text(const json& object, const char* name, const std::string& where);
std::string textOr(const json& object, const char* name, const std::string& otherwise, const std::string& where);
const json& list(const json& object, const char* name, const std::string& where);
double numberOr(const json& object, const char* name, double otherwise, const std::string& where);

/// The format and version that a reader takes.
void expectFormat(const json& document, const char* format, int version);

/// The rate as a number, and as the exact fraction when it is none.
void putRate(json& document, FrameRate rate);
FrameRate takeRate(const json& document, const std::string& where);

/// Left out where the rate says it all.
void putTimes(json& document, const FrameTimes& times);
FrameTimes takeTimes(const json& document, const std::string& where);

/// Reads JSON and lets `take` look at it; the error names the file and the place in it. `name` stands for the file.
Expected<void> lookInto(const std::string& contents, const std::string& name,
                        const std::function<void(const json&)>& take);

/// Lets `take` make a value of it.
template <class Take>
auto parseText(const std::string& contents, const std::string& name, Take&& take)
    -> Expected<decltype(take(std::declval<const json&>()))> {
    std::optional<decltype(take(std::declval<const json&>()))> made;
    if (auto read = lookInto(contents, name, [&](const json& document) { made.emplace(take(document)); }); !read)
        return tl::unexpected(std::move(read.error()));
    return *std::move(made);
}

template <class Take>
auto parseFile(const std::filesystem::path& path, Take&& take)
    -> Expected<decltype(take(std::declval<const json&>()))> {
    const auto contents = readFile(path);
    if (!contents) return tl::unexpected(contents.error());
    return parseText(*contents, path.string(), std::forward<Take>(take));
}

}  // namespace pinion::jsonfile
