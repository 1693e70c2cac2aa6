#include "stages/camera/nextstepline.h"

#include "jobs/nextstep.h"
#include "stages/shotform.h"

namespace pinion {
namespace {

QString doing(const NextStep& step) {
    switch (step.kind) {
        case NextStep::Kind::solveAgain:
            return "Refine";
        case NextStep::Kind::goThere:
            return QString("Go to %1").arg(step.frame);
        case NextStep::Kind::maskMover:
            return "Mask it";
        case NextStep::Kind::guessFocal:
            return QString("Guess %1 mm").arg(step.focal_mm, 0, 'f', 0);
        case NextStep::Kind::freeLens:
            return "Find all terms";
        case NextStep::Kind::setAside:
            return "While it gains";
        case NextStep::Kind::layGround:
            return "Open World";
        case NextStep::Kind::none:
            break;
    }
    return {};
}

class NextStepLine : public ShotForm {
public:
    NextStepLine(Session& session, CameraStage& stage) : ShotForm(session), stage_(stage) {
        auto* words = dimLabel("");
        words->setObjectName("nextStepWords");
        words->setWordWrap(true);
        words->setStyleSheet("QLabel { color: #dddddd; }");
        wide(words);
        auto* act = named(new QPushButton(""), "nextStep", "Does what stands above");
        auto* buttons = buttonRow({act});
        wide(buttons);
        onClick(act, [this] { stage_.takeStep(step_); });
        onRefresh([this, words, act, buttons] {
            const SolveLook* look = stage_.looker.look();
            step_ = look ? nextStepOf(session_.shot(), *look) : NextStep{};
            const bool any = step_.kind != NextStep::Kind::none;
            words->setVisible(any);
            buttons->setVisible(any);
            if (!any) return;
            words->setText(text(step_.words));
            act->setText(doing(step_));
            act->setEnabled(!session_.isBusy());
        });
        connect(&stage.looker, &SolveLooker::changed, this, [this] { refresh(); });
        refresh();
    }

private:
    CameraStage& stage_;
    NextStep step_;
};

}  // namespace

QWidget* makeNextStepLine(Session& session, CameraStage& stage) { return new NextStepLine(session, stage); }

}  // namespace pinion
