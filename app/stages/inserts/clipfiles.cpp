#include "stages/inserts/clipfiles.h"

#include "base/fingerprint.h"
#include "plate/filestamp.h"
#include "plate/framewriter.h"

namespace pinion {
namespace {

constexpr int kLookEvery_ms = 2000;

std::vector<std::filesystem::path> filesOf(const Clip& clip) {
    if (!isSequencePattern(clip.path)) return {clip.path};
    std::vector<std::filesystem::path> files;
    for (int frame = clip.frames.first; frame <= clip.frames.last; ++frame)
        files.push_back(frameFile(clip.path, frame));
    return files;
}

}  // namespace

ClipFiles::ClipFiles(Session& session) : session_(session), work_(session.jobs) {
    connect(&session.document, &Document::changed, this, [this] {
        if (!session_.shot().clips.sharedWith(clips_)) look();
    });
    connect(&again_, &QTimer::timeout, this, [this] {
        if (!clips_.isEmpty() && !session_.player.isPlaying() && !work_.isRunning()) look();
    });
    again_.start(kLookEvery_ms);
}

bool ClipFiles::isMissing(const Clip& clip) const {
    const auto file = files_.find(clip.path);
    return file != files_.end() && file->second.missing;
}

int ClipFiles::numberedLike(const Clip& clip) const {
    const auto file = files_.find(clip.path);
    return file == files_.end() ? 0 : file->second.numbered;
}

ClipFiles::Files ClipFiles::lookedAt(const std::vector<Clip>& clips) {
    Files files;
    for (const Clip& clip : clips) {
        const auto all = filesOf(clip);
        std::error_code code;
        files[clip.path] = {!std::filesystem::exists(all.front(), code),
                            clip.still ? int(picturesAround(clip.path).size()) : 0, stampOf(all)};
    }
    return files;
}

void ClipFiles::look() {
    clips_ = session_.shot().clips;
    work_.start([this, clips = clips_.vector()](const Progress&) -> std::function<void()> {
        return [this, files = lookedAt(clips)] { take(files); };
    });
}

void ClipFiles::take(Files files) {
    if (files == files_) return;
    files_ = std::move(files);
    Fingerprint print;
    for (const auto& [path, file] : files_) print.add(file.stamp);
    version_ = print.value();
    emit changed();
}

}  // namespace pinion
