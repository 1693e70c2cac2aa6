#include "stages/mattes/mattehand.h"

#include "shot/edits/matteedits.h"

#include <Eigen/LU>

namespace pinion {
namespace {

constexpr double kLeastArea = 4.0;  // square pixels
constexpr std::size_t kMostPoints = 20000;

}  // namespace

MatteHand::MatteHand(Session& session) : session_(session), carriers_(session.jobs, [this] { emit motionsChanged(); }) {
    connect(&session.document, &Document::changed, this, &MatteHand::refresh);
    connect(&session.document, &Document::replaced, this, [this] { hold(std::nullopt); });
}

std::optional<std::size_t> MatteHand::matte() const {
    return matte_ && *matte_ < session_.shot().mattes.size() ? matte_ : std::nullopt;
}

const Matte* MatteHand::held() const {
    const auto place = matte();
    return place ? &session_.shot().mattes[*place] : nullptr;
}

void MatteHand::hold(std::optional<std::size_t> matte) {
    if (matte != matte_) points_.clear();
    matte_ = matte;
    emit changed();
}

void MatteHand::setPoints(std::set<std::size_t> points) {
    points_ = std::move(points);
    emit changed();
}

void MatteHand::refresh() {
    if (matte_ && !matte()) matte_.reset();
    // An undo may have taken points away.
    const Matte* matte = held();
    const std::size_t count = matte && !matte->keys.empty() ? matte->keys.front().polygon.size() : 0;
    std::erase_if(points_, [count](std::size_t point) { return point >= count; });
    refreshMotions();
    emit changed();
}

void MatteHand::refreshMotions() {
    const Shot& shot = session_.shot();
    std::vector<Ride> wanted;
    for (const Matte& one : shot.mattes)
        if (one.ride && !quickCarrierOf(shot, *one.ride)) wanted.push_back(*one.ride);
    if (const auto ride = rideOfNew(); ride && !quickCarrierOf(shot, *ride)) wanted.push_back(*ride);
    if (wanted.empty()) return;
    Fingerprint key;
    for (const Ride& ride : wanted) pinion::addRide(key, shot, ride);
    carriers_.want(key.value(), [shot, wanted](const Progress&) -> Expected<bool> {
        for (const Ride& ride : wanted) (void)pinion::carrierOf(shot, ride);
        return true;
    });
}

std::shared_ptr<const Carrier> MatteHand::carrierOf(const Ride& ride) const {
    return quickCarrierOf(session_.shot(), ride);
}

std::optional<Matte::Key> MatteHand::shapeOf(std::size_t place) const {
    const auto& mattes = session_.shot().mattes;
    if (place >= mattes.size()) return std::nullopt;
    const Matte& matte = mattes[place];
    if (!matte.ride) return shapeAt(matte, session_.player.frame());
    const auto carrier = carrierOf(*matte.ride);
    return carrier ? riddenShape(matte, session_.player.frame(), carrier.get()) : std::nullopt;
}

bool MatteHand::mayEdit() {
    const Matte* matte = held();
    if (!matte) return false;
    if (session_.isBusy()) session_.say("A job is running. Stop it or wait to change shapes.");
    else if (matte->locked)
        session_.say(QString("%1 is locked. Unlock it in its card to change it.").arg(text(matte->name)));
    else if (matte->ride && !carrierOf(*matte->ride)) session_.say("What it rides on is still being worked out.");
    else return true;
    return false;
}

void MatteHand::setShape(const QString& edit, const Matte::Key& onPlate, bool amends) {
    const auto place = matte();
    if (!place) return;
    Shot shot = withMatteShape(session_.shot(), *place, session_.player.frame(), onPlate);
    if (amends) session_.document.amend(std::move(shot));
    else session_.edit(edit + " of " + text(held()->name), std::move(shot));
}

bool MatteHand::add(Matte::Key onPlate, const std::string& name) {
    if (session_.isBusy()) {
        session_.say("A job is running. Stop it or wait to draw shapes.");
        return false;
    }
    if (onPlate.polygon.size() < 3) {
        session_.say(
            "A shape has three points at least. Click them round what it is to cover, and click the first "
            "one again to close it.");
        return false;
    }
    if (onPlate.polygon.size() > kMostPoints) {
        session_.say(QString("A shape of %1 points is too much. Draw it with fewer.").arg(onPlate.polygon.size()));
        return false;
    }
    const Polygon outline = flattened(onPlate);
    if (areaOf(outline) < kLeastArea) {
        session_.say("The shape has no area: its points lie on a line. Nothing was drawn.");
        return false;
    }
    onPlate.frame = session_.player.frame();
    Matte matte;
    matte.name = name;
    matte.ride = rideOfNew();
    if (matte.ride) {
        // What the picture stands still on is known by then, or the shape waits in hand.
        const auto carrier = carrierOf(*matte.ride);
        if (!carrier) {
            session_.say("What the picture stands still on is still being worked out. Close the shape again then.");
            return false;
        }
        const Eigen::Matrix3d home = carrier->plateFromReference(onPlate.frame).inverse();
        onPlate = carried(home, std::move(onPlate));
    }
    matte.keys = {std::move(onPlate)};
    const Shot shot = withMatteAdded(session_.shot(), std::move(matte));
    const std::size_t place = shot.mattes.size() - 1;
    session_.edit("Draw " + text(shot.mattes.back().name), shot);
    if (crossesItself(outline)) session_.say("The shape crosses itself: where it does so it is open.");
    hold(place);
    return true;
}

}  // namespace pinion
