#include "session/logging.h"

#include "base/log.h"
#include "session/session.h"

#include <QStandardPaths>

namespace pinion {

QString logFile() {
    // The XDG base directory specification, version 0.8: what a program keeps between runs that is no data of the user.
    const QString given = qEnvironmentVariable("XDG_STATE_HOME");
    const bool testing = QStandardPaths::isTestModeEnabled();
    const QString state = testing ? QStandardPaths::writableLocation(QStandardPaths::AppDataLocation)
                          : given.isEmpty()
                              ? QStandardPaths::writableLocation(QStandardPaths::HomeLocation) + "/.local/state"
                              : given;
    return state + "/pinion/pinion.log";
}

void logSession(Session& session) {
    QObject::connect(&session.player, &Player::plateChanged, &session, [&session] {
        if (!session.hasPlate()) return;
        const PlateFacts& facts = session.player.frames()->facts();
        log::info("opened {}: {}x{}, {} frames/s, frames {}-{}", facts.path.string(), facts.width, facts.height,
                  toString(facts.fps), facts.firstFrame, facts.lastFrame);
    });
    QObject::connect(&session.document, &Document::fileChanged, &session, [&session] {
        if (!session.document.file().empty()) log::info("shot {}", session.document.file().string());
    });
    QObject::connect(&session.jobs, &JobRunner::finished, &session,
                     [](const QString& name, double seconds, const QString& problem) {
                         const std::string job = name.toStdString();
                         if (problem.isEmpty()) log::info("{}: {:.2f} s", job, seconds);
                         else log::error("{}: {:.2f} s, {}", job, seconds, problem.toStdString());
                     });
    QObject::connect(&session.notes, &Notes::said, &session, [](const QString& words, bool error) {
        if (error) log::error("said: {}", words.toStdString());
    });
}

}  // namespace pinion
