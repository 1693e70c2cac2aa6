// Damaged files: every reader says in its own words what is wrong, or takes them whole. bench/mutations makes
// thousands.

#include "mutations/mutations.h"
#include "scratch.h"

#include <catch2/catch.hpp>

using namespace pinion;

TEST_CASE("no damaged file makes a reader throw, hang or talk like a library") {
    const test::Scratch scratch;
    for (const bench::ReaderUnderTest& reader : bench::readersUnderTest()) {
        INFO(reader.name);
        REQUIRE(bench::faultOf(reader, scratch.write(reader.file, reader.contents)).empty());
        CHECK(reader.read(scratch / reader.file).empty());
        std::mt19937 random(99);
        int refused = 0;
        for (int i = 0; i < 250; ++i) {
            const std::string contents = bench::mutated(reader.contents, random);
            const auto path = scratch.write(reader.file, contents);
            const std::string fault = bench::faultOf(reader, path);
            INFO(i << ": " << fault);
            REQUIRE(fault.empty());
            refused += !reader.read(path).empty();
        }
        // Most damage is damage.
        CHECK(refused > 60);
    }
}
