// Which pictures are made ready for the screen, and in which order, when more is asked for than can be made in time.

#include "canvas/displaypictures.h"
#include "fixture.h"

#include <atomic>
#include <mutex>

namespace {

/// Makes nothing until it may; tells what was made.
struct Gate {
    std::mutex mutex;
    std::vector<int> made;
    std::atomic<bool> open{false};
};

class GatedRendering : public Rendering {
public:
    GatedRendering(std::shared_ptr<Gate> gate, int number) : gate_(std::move(gate)), number_(number) {}
    QImage made(const Picture& picture, const ViewTransform& view) const override {
        while (!gate_->open) QThread::msleep(1);
        const std::lock_guard lock(gate_->mutex);
        gate_->made.push_back(number_);
        return imageOf(picture, view);
    }

private:
    std::shared_ptr<Gate> gate_;
    int number_;
};

}  // namespace

TEST_CASE("pictures that were asked for and would come too late are left, and the latest are made first") {
    Notes notes;
    JobRunner jobs(notes);
    int arrived = 0;
    DisplayPictures pictures(jobs, [&] { ++arrived; });
    const auto plate = std::make_shared<const Picture>(
        Picture{8, 6, Picture::Depth::bits8, false, std::vector<std::uint8_t>(8 * 6 * 3, 90), {}});
    const auto gate = std::make_shared<Gate>();
    std::vector<std::shared_ptr<const Rendering>> renderings;
    for (int i = 0; i < 8; ++i) renderings.push_back(std::make_shared<const GatedRendering>(gate, i));
    const auto ask = [&](int i) { return pictures.get(plate, {}, renderings[std::size_t(i)]); };
    pictures.begin();
    for (const int i : {0, 1, 2, 3}) CHECK(ask(i).isNull());
    QTest::qWait(30);  // two are begun: the latest that were asked for
    pictures.begin();
    for (const int i : {4, 5, 6}) CHECK(ask(i).isNull());
    QTest::qWait(30);
    gate->open = true;
    REQUIRE(QTest::qWaitFor([&] { return arrived == 5; }, 30000));
    QTest::qWait(50);
    CHECK(arrived == 5);
    const std::vector<int> made = gate->made;  // no thread makes more
    REQUIRE(made.size() == 5);
    CHECK(std::set<int>(made.begin(), made.begin() + 2) == std::set<int>{2, 3});
    CHECK(std::set<int>(made.begin() + 2, made.end()) == std::set<int>{4, 5, 6});
    CHECK(made[2] != 4);
    CHECK_FALSE(pictures.peek(plate, {}, renderings[6]).isNull());
    CHECK(pictures.peek(plate, {}, renderings[0]).isNull());
    // Asked for again it is made after all.
    pictures.begin();
    CHECK(ask(0).isNull());
    REQUIRE(QTest::qWaitFor([&] { return !pictures.peek(plate, {}, renderings[0]).isNull(); }, 30000));
}

namespace {

/// A sight that makes its own pictures, and tells of which frames it was asked to make which.
class CountingSight : public Sight {
public:
    QString name() const override { return "counting"; }
    PlateWarp warpAt(int) const override { return {}; }
    QString words(int) const override { return {}; }
    std::shared_ptr<const Rendering> rendering(int frame) const override {
        auto& known = known_[frame];
        if (!known) known = std::make_shared<const Made>(frame, &count);
        return known;
    }
    mutable std::map<int, std::atomic<int>> count;

private:
    class Made : public Rendering {
    public:
        Made(int frame, std::map<int, std::atomic<int>>* count) : count_((*count)[frame]) {}
        QImage made(const Picture& picture, const ViewTransform& view) const override {
            ++count_;
            return imageOf(picture, view);
        }

    private:
        std::atomic<int>& count_;
    };
    mutable std::map<int, std::shared_ptr<const Rendering>> known_;
};

}  // namespace

TEST_CASE("stepping makes each picture of a sight once, by what makes that frame") {
    Fixture f;
    f.openPlate(kPlate);
    auto owned = std::make_unique<CountingSight>();
    const CountingSight& sight = *owned;
    f.canvas.addSight(std::move(owned));
    f.canvas.look("counting", Compare::none);
    const int first = f.session.player.frame();
    for (int step = 1; step <= 4; ++step) {
        f.session.player.goTo(first + step);
        REQUIRE(QTest::qWaitFor([&] { return f.canvas.imageFrame() == first + step; }, 30000));
        QTest::qWait(60);
    }
    for (int step = 1; step <= 4; ++step) CHECK(sight.count[first + step] == 1);
}

namespace {

/// Keeps no more renderings than the frames about the one that is played, as sights do, and is slower than playing.
class SlowSight : public Sight {
public:
    static constexpr std::size_t kKept = 8;
    QString name() const override { return "slow"; }
    PlateWarp warpAt(int) const override { return {}; }
    QString words(int) const override { return {}; }
    std::shared_ptr<const Rendering> rendering(int frame) const override {
        const auto known =
            std::find_if(kept_.begin(), kept_.end(), [&](const auto& one) { return one.first == frame; });
        if (known != kept_.end()) {
            kept_.splice(kept_.begin(), kept_, known);
        } else {
            ++given[frame];
            kept_.emplace_front(frame, std::make_shared<const Made>());
            if (kept_.size() > kKept) kept_.pop_back();
        }
        return kept_.front().second;
    }
    mutable std::map<int, int> given;

private:
    class Made : public Rendering {
    public:
        QImage made(const Picture& picture, const ViewTransform& view) const override {
            QThread::msleep(120);  // of two at once one comes every 60 ms: every second picture is too late
            return imageOf(picture, view);
        }
    };
    mutable std::list<std::pair<int, std::shared_ptr<const Rendering>>> kept_;
};

}  // namespace

TEST_CASE("a sight that is slower than playing is seen playing, and asked for each frame once") {
    Fixture f;
    f.openPlate(kPlate);
    auto owned = std::make_unique<SlowSight>();
    const SlowSight& sight = *owned;
    f.canvas.addSight(std::move(owned));
    f.canvas.look("slow", Compare::none);
    const int first = f.session.shot().plate.range.first, last = f.session.shot().plate.range.last;
    for (int frame = first; frame <= std::min(last, first + 60); ++frame) {  // read once
        f.session.player.goTo(frame);
        QTest::qWait(2);
    }
    f.session.player.goTo(first);
    REQUIRE(QTest::qWaitFor([&] { return !f.canvas.renderedImage().isNull(); }, 30000));
    std::map<int, int> asked = sight.given;
    std::set<qint64> seen;
    f.session.player.setPlaying(true);
    REQUIRE(QTest::qWaitFor(
        [&] {
            if (!f.canvas.renderedImage().isNull()) seen.insert(f.canvas.renderedImage().cacheKey());
            return f.session.player.frame() >= first + 36;
        },
        20000));
    f.session.player.setPlaying(false);
    CHECK(seen.size() >= 4);
    // What lies behind is not asked for again: it would drive out of the sight's memory what comes next.
    for (int frame = first + 8; frame < first + 30; ++frame) CHECK(sight.given[frame] - asked[frame] <= 1);
}

TEST_CASE("another sight shows nothing that the one before has made") {
    Fixture f;
    f.openPlate(kPlate);
    f.canvas.addSight(std::make_unique<CountingSight>());
    f.canvas.addSight(std::make_unique<SlowSight>());
    f.canvas.look("counting", Compare::none);
    f.session.player.setPlaying(true);
    REQUIRE(QTest::qWaitFor([&] { return !f.canvas.renderedImage().isNull(); }, 30000));
    const int frame = f.session.player.frame();
    REQUIRE(QTest::qWaitFor([&] { return f.session.player.frame() > frame + 4; }, 30000));
    const qint64 before = f.canvas.renderedImage().cacheKey();
    f.canvas.look({}, Compare::none);
    CHECK(f.canvas.renderedImage().isNull());
    f.canvas.look("slow", Compare::none);
    CHECK(f.canvas.renderedImage().cacheKey() != before);
    f.session.player.setPlaying(false);
}
