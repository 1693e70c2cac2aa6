#pragma once

#include <filesystem>
#include <fmt/core.h>
#include <fstream>
#include <string>
#include <unistd.h>

namespace pinion::test {

/// A folder of its own for one test, gone after it.
class Scratch {
public:
    Scratch() {
        static int counter = 0;
        path_ = std::filesystem::temp_directory_path() / fmt::format("pinion-test-{}-{}", ::getpid(), counter++);
        std::filesystem::create_directories(path_);
    }
    ~Scratch() {
        std::error_code code;
        std::filesystem::remove_all(path_, code);
    }
    Scratch(const Scratch&) = delete;
    Scratch& operator=(const Scratch&) = delete;
    std::filesystem::path operator/(const std::string& name) const { return path_ / name; }
    const std::filesystem::path& path() const { return path_; }
    std::filesystem::path write(const std::string& name, const std::string& contents) const {
        std::ofstream(path_ / name, std::ios::binary) << contents;
        return path_ / name;
    }

private:
    std::filesystem::path path_;
};

}  // namespace pinion::test
