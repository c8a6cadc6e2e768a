// SPDX-License-Identifier: GPL-3.0-or-later
//
// One row of ./measure: what was measured, the figure, its goal, and whether it is met.
#pragma once

#include <optional>
#include <string>
#include <vector>

namespace measure {

struct Row {
    std::string what, figure, goal;
    std::optional<bool> met;  // empty: a figure without a goal so far
};

std::vector<Row> recorderRows();  // a marker's cost, file size, kill
std::vector<Row> preloadRows();   // what recording an unmodified program costs it
std::vector<Row> drawingRows();
std::vector<Row> liveRows();   // opening, painting, explaining
std::vector<Row> truthRows();  // planted causes named, whole
std::vector<Row> realRows();   // the same of a program in real time; its recordings stay in keptFolder()
std::string& keptFolder();     // empty: they do not stay
/// Prints the table of what grows, up to so many markers. Returns whether every goal is met.
bool scaleRows(uint64_t most);

std::string number(const char* form, double value);
/// Runs skerry; returns false where it failed.
bool sail(const std::vector<std::string>& arguments);
std::string scratchFile(const std::string& name);

}  // namespace measure
