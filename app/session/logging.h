#pragma once

#include <QString>

namespace pinion {

class Session;

/// Where the log lies: in the user's state folder.
QString logFile();

/// Keeps in the log what is opened, the jobs with their times, and every error that is shown.
void logSession(Session& session);

}  // namespace pinion
