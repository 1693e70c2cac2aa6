#include "stages/copying.h"

#include "exchange/deliverables.h"

#include <QClipboard>
#include <QGuiApplication>

namespace pinion {

void startCopy(Session& session, const Shot& shot, const Deliverable& deliverable) {
    const auto run = [shot, deliverable](const JobLink&) -> Expected<QString> {
        const auto contents = deliverableText(shot, deliverable);
        if (!contents) return tl::unexpected(contents.error());
        return text(*contents);
    };
    const auto merge = [&session, name = text(deliverable.name)](QString& words) {
        QGuiApplication::clipboard()->setText(words);
        session.say(QString("%1 copied, %2 characters").arg(name).arg(words.size()));
    };
    session.jobs.start(Job<QString>{.name = "Copying", .run = run, .merge = merge});
}

}  // namespace pinion
