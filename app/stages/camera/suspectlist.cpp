#include "stages/camera/suspectlist.h"

#include "shot/edits/trackedits.h"
#include "stages/shotform.h"
#include "widgets/theme.h"

#include <QListWidget>

#include <algorithm>
#include <array>
#include <span>
#include <string>

namespace pinion {
namespace {

class SuspectList : public ShotForm {
public:
    SuspectList(Session& session, CameraStage& stage) : ShotForm(session), stage_(stage), looker_(stage.looker) {
        addArrows();
        addReasons();
        addWords();
        connect(&looker_, &SolveLooker::changed, this, [this] { refresh(); });
        refresh();
    }

private:
    void addArrows() {
        auto* arrows =
            named(choice({"not shown", "on this frame", "whole shot"}), "errorArrows",
                  "Where tracks lie beside their points: an arrow each, 20 times as long; or what is usual in "
                  "each part of the picture, 200 times: a lens that is wrong shows as a pattern");
        row("Errors", arrows);
        connect(arrows, &QComboBox::activated, this,
                [this](int index) { looker_.showArrows(SolveLooker::Arrows(index)); });
        onRefresh([this, arrows] { arrows->setCurrentIndex(int(looker_.arrows())); });
    }

    void addReasons() {
        title_ = dimLabel("Suspects");
        wide(title_);
        list_ = named(new QListWidget, "suspects", "A click chooses its tracks; X sets them aside");
        list_->setAccessibleName("Suspects by reason");
        list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
        list_->setVerticalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
        wide(list_);
        const auto take = [this](const QListWidgetItem* item) {
            if (item) looker_.hold(SuspectReason(item->data(Qt::UserRole).toInt()));
        };
        connect(list_, &QListWidget::itemClicked, this, take);
        connect(list_, &QListWidget::itemActivated, this, take);
        onRefresh([this] { fill(); });
    }

    void fill() {
        std::array<int, kSuspectReasons> counts{};
        if (const SolveLook* look = looker_.look())
            for (const Suspect& one : look->suspects) ++counts[std::size_t(one.reason)];
        const QSignalBlocker quiet(list_);
        // What does harm stands above what is only of no use.
        std::vector<SuspectReason> reasons;
        for (const bool harmful : {true, false})
            for (std::size_t r = 0; r < kSuspectReasons; ++r)
                if (counts[r] > 0 && isHarmful(SuspectReason(r)) == harmful) reasons.push_back(SuspectReason(r));
        title_->setVisible(session_.shot().solve != nullptr);
        title_->setText(looker_.isLooking() ? "Suspects: looking…" : reasons.empty() ? "Suspects: none" : "Suspects");
        list_->clear();
        for (const SuspectReason reason : reasons) {
            auto* item = new QListWidgetItem(
                QString("%1 %2").arg(counts[std::size_t(reason)]).arg(text(std::string(wordsOf(reason)))), list_);
            item->setData(Qt::UserRole, int(reason));
            item->setToolTip(item->text());
            if (!isHarmful(reason)) item->setForeground(theme::kDim);
            if (looker_.held() == reason) list_->setCurrentItem(item);
        }
        const int rows = int(reasons.size());
        list_->setFixedHeight(rows * list_->sizeHintForRow(0) + 2 * list_->frameWidth() + 2);
        list_->setVisible(rows > 0);
    }

    void addWords() {
        auto* words = dimLabel("");
        words->setObjectName("suspectWords");
        words->setWordWrap(true);
        wide(words);
        auto* aside = named(new QPushButton("Set aside"), "suspectsAside",
                            "Take these tracks out of the solve; solve "
                            "or refine to see it");
        auto* gains = named(new QPushButton("While it gains"), "whileItGains",
                            "Sets suspects and the worst tracks aside as long as the error on held-out tracks falls by "
                            "it, frames keep their tracks and the picture stays covered; stops by itself");
        wide(buttonRow({aside, gains}));
        onClick(aside, [this] { stage_.setSuspectsAside(); });
        onClick(gains, [this] { stage_.startSettingAside(); });
        onRefresh([this, words, aside, gains] {
            const auto tracks = looker_.held() ? looker_.suspects(*looker_.held()) : std::vector<TrackId>{};
            words->setVisible(!tracks.empty());
            aside->setVisible(!tracks.empty());
            gains->setEnabled(!session_.isBusy() && looker_.look());
            if (tracks.empty()) return;
            aside->setText(QString("Set %1 aside").arg(tracks.size()));
            aside->setEnabled(!session_.isBusy());
            words->setText(gainWords() + exampleWords());
        });
    }

    QString gainWords() const {
        if (looker_.isTrying()) return "Without them: adjusting…\n";
        if (!looker_.whyNotWithout().isEmpty()) return "Without them: " + looker_.whyNotWithout() + "\n";
        const Without* without = looker_.without();
        if (!without) return {};
        QString said = without->heldOutThen_px > 0 ? QString("Without them: held out %1 px, now %2")
                                                         .arg(without->heldOutThen_px, 0, 'f', 3)
                                                         .arg(without->heldOut_px, 0, 'f', 3)
                                                   : QString("Without them: RMS %1 px, now %2")
                                                         .arg(without->rmsThen_px, 0, 'f', 3)
                                                         .arg(without->rms_px, 0, 'f', 3);
        said += without->heldOutThen_px > 0 && !without->gains() ? " (nothing is gained).\n" : ".\n";
        said += QString("Thinnest on %1: %2 tracks, now %3.\n")
                    .arg(without->fewestFrame)
                    .arg(without->fewestThen)
                    .arg(without->fewest);
        if (without->coveredThen < without->covered)
            said += QString("Covers %1 % of the picture, now %2 %.\n")
                        .arg(100 * without->coveredThen, 0, 'f', 0)
                        .arg(100 * without->covered, 0, 'f', 0);
        return said;
    }

    /// The worst of them in words.
    QString exampleWords() const {
        const SolveLook* look = looker_.look();
        if (!look) return {};
        std::vector<const Suspect*> worst;
        for (const Suspect& one : look->suspects)
            if (one.reason == *looker_.held()) worst.push_back(&one);
        std::stable_sort(worst.begin(), worst.end(),
                         [](const Suspect* a, const Suspect* b) { return a->by_px > b->by_px; });
        QStringList lines;
        // What differs from one to the next is told of the first three, else they are named.
        const bool differ = worst.size() > 0 && (worst.front()->by_px > 0 || worst.front()->other != 0) &&
                            worst.front()->reason != SuspectReason::crosses;
        for (const Suspect* one : std::span(worst).first(std::min<std::size_t>(worst.size(), 3))) {
            const Track* track = findTrack(session_.shot(), one->track);
            const Track* other = findTrack(session_.shot(), one->other);
            if (track) lines << text(differ ? wordsOf(*one, track->name, other ? other->name : "") : track->name);
        }
        if (!differ) {
            const QString rest = worst.size() > 3 ? QString(" and %1 more").arg(worst.size() - 3) : QString();
            return lines.join(", ") + rest;
        }
        return lines.join("\n");
    }

    CameraStage& stage_;
    SolveLooker& looker_;
    QLabel* title_ = nullptr;
    QListWidget* list_ = nullptr;
};

}  // namespace

QWidget* makeSuspectList(Session& session, CameraStage& stage) { return new SuspectList(session, stage); }

}  // namespace pinion
