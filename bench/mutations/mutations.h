#pragma once

#include <filesystem>
#include <functional>
#include <random>
#include <string>
#include <vector>

namespace pinion::bench {

/// A reader, a sound file for it, and what is done with what it reads.
struct ReaderUnderTest {
    std::string name;
    std::string file;      ///< the file's name, with the ending that the reader looks at
    std::string contents;  ///< of a sound file
    /// The message of what went wrong, empty when the file was taken.
    std::function<std::string(const std::filesystem::path&)> read;
};

/// Every reader of the program's own files.
std::vector<ReaderUnderTest> readersUnderTest();

/// The contents with one to four changes: bytes, cuts, doubled and swapped stretches, numbers and words replaced by the
/// worst of their kind.
std::string mutated(const std::string& contents, std::mt19937& random);

/// What is wrong with a reader's answer to a file: an exception that left it, a message in a library's words or without
/// the file's name, more than five seconds. Empty when all is well.
std::string faultOf(const ReaderUnderTest& reader, const std::filesystem::path& path);

}  // namespace pinion::bench
