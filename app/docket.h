#pragma once

#include "session/session.h"
#include "stages/stage.h"
#include "widgets/card.h"

#include <QWidget>

#include <memory>
#include <vector>

class QScrollArea;

namespace pinion {

/// The left column: the shot's stages in the order of work, one open.
class Docket : public QWidget {
    Q_OBJECT
public:
    Docket(Session& session, const std::vector<std::unique_ptr<Stage>>& stages, QWidget* parent = nullptr);
    Card* card(const QString& stage) const;
    void open(const QString& stage);
    const QString& openStage() const { return open_; }

    /// Asks the stages anew what there is to say of them.
    void refresh();

signals:
    void opened(const QString& stage);

private:
    struct Entry {
        Stage* stage;
        Card* card;
    };
    std::vector<Entry> entries_;
    QScrollArea* scroll_;
    QString open_;
};

}  // namespace pinion
