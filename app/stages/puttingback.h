#pragma once

#include "comp/render.h"
#include "session/session.h"

#include <filesystem>
#include <functional>
#include <string>

namespace pinion {

/// Reads what came back from painting (frames, a video, or one picture for all frames) and puts it back by `run`, in a
/// job that says how it went. It is written to the shot's deliveries as `name`, as frames where it came as frames.
using PutBackRun =
    std::function<Expected<PutBackReport>(FrameCache& made, const std::filesystem::path& pattern, const JobLink&)>;
void startPutBack(Session& session, const std::filesystem::path& changed, const std::string& name,
                  const PutBackRun& run);

}  // namespace pinion
