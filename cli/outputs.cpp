#include "outputs.h"

#include <filesystem>
#include <unistd.h>

namespace pinion::cli {
namespace {

namespace fs = std::filesystem;

bool isSame(const fs::path& a, const fs::path& b) {
    std::error_code code;
    if (fs::equivalent(a, b, code)) return true;
    return fs::weakly_canonical(a, code) == fs::weakly_canonical(b, code);
}

fs::path folderOf(const fs::path& file) { return file.has_parent_path() ? file.parent_path() : fs::path("."); }

/// "shot.####.exr" and "shot.1001.exr" as "shot." and ".exr": what is left of a frame's name without its number.
std::string withoutNumber(const fs::path& file) {
    std::string stem = file.stem().string();
    while (!stem.empty() && (stem.back() == '#' || (stem.back() >= '0' && stem.back() <= '9'))) stem.pop_back();
    return stem + "\n" + file.extension().string();
}

bool isFrameOf(const fs::path& out, const fs::path& input) {
    std::error_code code;
    if (fs::is_directory(input, code)) {
        if (!isSame(folderOf(out), input)) return false;
        for (const auto& entry : fs::directory_iterator(input, code))
            if (withoutNumber(entry.path()) == withoutNumber(out)) return true;
        return false;
    }
    // A plain file is no sequence: its name may well end in a number.
    const bool isSequence =
        input.string().find('#') != std::string::npos || out.string().find('#') != std::string::npos;
    return isSequence && isSame(folderOf(out), folderOf(input)) && withoutNumber(out) == withoutNumber(input);
}

}  // namespace

Expected<void> checkOutput(const std::string& option, const std::string& out, const std::vector<std::string>& inputs) {
    if (out == "-" || out.empty()) return {};
    for (const std::string& input : inputs) {
        if (input.empty()) continue;
        if (isSame(out, input))
            return failure(Fault::input, "{} {}: is read as well; it would be replaced, give another name", option,
                           out);
        if (isFrameOf(out, input))
            return failure(Fault::input, "{} {}: would write over frames of {}; give another name or folder", option,
                           out, input);
    }
    // Frames go into a folder that is made for them.
    if (out.find('#') != std::string::npos) return {};
    std::error_code code;
    const fs::path folder = folderOf(out);
    if (!fs::is_directory(folder, code))
        return failure(Fault::input, "{} {}: the folder {} does not exist", option, out, folder.string());
    if (fs::is_directory(out, code)) return failure(Fault::input, "{} {}: is a folder; give a file name", option, out);
    if (::access(fs::exists(out, code) ? out.c_str() : folder.c_str(), W_OK) != 0)
        return failure(Fault::system, "{} {}: there is no permission to write it; choose another place", option, out);
    return {};
}

}  // namespace pinion::cli
