#include "base/files.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <cctype>
#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fcntl.h>
#include <mutex>
#include <regex>
#include <set>
#include <sys/types.h>
#include <unistd.h>

namespace pinion {
namespace {

namespace fs = std::filesystem;

std::string reason(int code) {
    switch (code) {
        case ENOSPC:
            return "the disk is full; free some space and write again";
        case EDQUOT:
            return "the disk quota is used up; free some space and write again";
        case EACCES:
        case EPERM:
            return "there is no permission; choose another folder or change its rights";
        case EROFS:
            return "the disk is read-only; choose another folder";
        case ENOENT:
            return "there is no such file or folder";
        case EISDIR:
            return "it is a folder";
        default:
            return std::strerror(code);
    }
}

/// This machine's name in the name of a part: the same number of a process runs on others too.
std::string hostWord() {
    std::array<char, 64> name{};
    ::gethostname(name.data(), name.size() - 1);
    std::string word;
    for (const char* letter = name.data(); *letter && word.size() < 24; ++letter)
        word += std::isalnum(static_cast<unsigned char>(*letter)) ? *letter : '_';
    return word;
}

/// Parts that a killed process of this machine left are removed; of other machines those that nobody has touched for a
/// day.
void sweepParts(const fs::path& folder) {
    static const std::regex kPart("\\..*\\.([A-Za-z0-9_]*)-([0-9]+)-[0-9]+\\.part(\\..*)?");
    const std::string host = hostWord();
    std::error_code code;
    for (const auto& entry : fs::directory_iterator(folder, code)) {
        const std::string name = entry.path().filename().string();
        std::smatch match;
        if (!name.starts_with('.') || !std::regex_match(name, match, kPart)) continue;
        const bool isOwn = match[1] == host;
        const auto process = pid_t(std::strtol(match[2].str().c_str(), nullptr, 10));
        if (isOwn && (::kill(process, 0) == 0 || errno != ESRCH)) continue;
        std::error_code unknown;
        const auto written = fs::last_write_time(entry.path(), unknown);
        if (unknown || (!isOwn && fs::file_time_type::clock::now() - written < std::chrono::hours(24))) continue;
        fs::remove(entry.path(), unknown);
    }
}

/// Once for each folder: a long sequence is not to be looked through for each of its frames.
void sweepOnce(const fs::path& folder) {
    static std::mutex mutex;
    static std::set<fs::path> swept;
    std::error_code code;
    const fs::path whole = fs::absolute(folder, code);
    const std::lock_guard lock(mutex);
    if (swept.insert(whole).second) sweepParts(whole);
}

}  // namespace

fs::path pathBeside(const fs::path& path) {
    static std::atomic<unsigned> counter{0};
    const fs::path folder = path.has_parent_path() ? path.parent_path() : fs::path(".");
    sweepOnce(folder);
    // The ending stays the same: picture libraries choose the format by it.
    return path.parent_path() / fmt::format(".{}.{}-{}-{}.part{}", path.stem().string(), hostWord(), ::getpid(),
                                            counter++, path.extension().string());
}

Expected<std::string> readFile(const fs::path& path, std::size_t limit) {
    std::error_code code;
    if (fs::is_directory(path, code)) return failure(Fault::input, "{}: is a folder, not a file", path.string());
    std::FILE* file = std::fopen(path.c_str(), "rb");
    if (!file) return failure(Fault::input, "{}: cannot be read: {}", path.string(), reason(errno));
    std::string contents;
    char buffer[1 << 16];
    std::size_t count = 0;
    while ((count = std::fread(buffer, 1, sizeof buffer, file)) > 0 && contents.size() <= limit)
        contents.append(buffer, count);
    const bool failed = std::ferror(file) != 0;
    std::fclose(file);
    if (failed) return failure(Fault::system, "{}: cannot be read to its end", path.string());
    if (contents.size() > limit) return failure(Fault::input, "{}: is larger than {} bytes", path.string(), limit);
    return contents;
}

Expected<void> writeFile(const fs::path& path, std::string_view contents) {
    return writeBeside(path, [&](const fs::path& beside) -> Expected<void> {
        const int file = ::open(beside.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666);
        int code = file < 0 ? errno : 0;
        for (std::size_t done = 0; code == 0 && done < contents.size();) {
            const ssize_t count = ::write(file, contents.data() + done, contents.size() - done);
            if (count < 0 && errno != EINTR) code = errno;
            if (count > 0) done += std::size_t(count);
        }
        // A rename that reaches the disk before the contents would leave an empty file after a power cut.
        if (code == 0 && ::fsync(file) != 0 && errno != EINVAL) code = errno;
        if (file >= 0 && ::close(file) != 0 && code == 0) code = errno;
        if (code != 0) return failure(Fault::system, "{}: cannot be written: {}", path.string(), reason(code));
        return {};
    });
}

Expected<void> writeBeside(const fs::path& path, const std::function<Expected<void>(const fs::path&)>& write) {
    std::error_code code;
    if (fs::is_directory(path, code)) return failure(Fault::input, "{}: is a folder; give a file name", path.string());
    const fs::path folder = path.has_parent_path() ? path.parent_path() : fs::path(".");
    if (!fs::is_directory(folder, code))
        return failure(Fault::input, "{}: cannot be written: the folder {} does not exist", path.string(),
                       folder.string());
    // Renaming over a file needs rights on the folder only; a file the artist has locked is to stay as it is.
    if (fs::exists(path, code) && ::access(path.c_str(), W_OK) != 0)
        return failure(Fault::system, "{}: cannot be written: {}", path.string(), reason(errno));
    const fs::path beside = pathBeside(path);
    Expected<void> written = write(beside);
    if (written && ::rename(beside.c_str(), path.c_str()) != 0)
        written = failure(Fault::system, "{}: cannot be written: {}", path.string(), reason(errno));
    if (!written) ::unlink(beside.c_str());
    return written;
}

Expected<void> makeFolder(const fs::path& folder) {
    if (folder.empty()) return {};  // here
    std::error_code code;
    fs::create_directories(folder, code);
    if (code) return failure(Fault::system, "{}: the folder cannot be made: {}", folder.string(), reason(code.value()));
    return {};
}

std::string writeProblem(const fs::path& path, const std::string& libraryWords) {
    const fs::path folder = path.has_parent_path() ? path.parent_path() : fs::path(".");
    std::error_code code;
    if (const fs::space_info space = fs::space(folder, code); !code && space.available < (std::uintmax_t(1) << 20))
        return reason(ENOSPC);
    if (::access(folder.c_str(), W_OK) != 0) return reason(errno);
    return libraryWords.empty() ? "the disk is full or cannot be written" : libraryWords;
}

std::string loweredEnding(const std::filesystem::path& path) {
    std::string ending = path.extension().string();
    std::transform(ending.begin(), ending.end(), ending.begin(), [](unsigned char c) { return char(std::tolower(c)); });
    return ending;
}

}  // namespace pinion
