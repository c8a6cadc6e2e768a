// SPDX-License-Identifier: GPL-3.0-or-later
//
// Small recordings written by hand in the text form, for tests whose answers are worked out by hand.
// Times are given in microseconds.
#pragma once

#include <QString>
#include <memory>
#include <string>

#include "core/model/open_recording.h"

namespace fugato {

class TextRecording {
public:
    TextRecording& line(const std::string& json) {
        text_ += json + "\n";
        return *this;
    }
    TextRecording& lane(const std::string& name, int id, const std::string& kind = "thread",
                        const std::string& role = "") {
        return line(R"({"define":"lane","id":)" + std::to_string(id) + R"(,"name":")" + name + R"(","kind":")" + kind +
                    R"(","role":")" + role + R"("})");
    }
    TextRecording& at(double us, const std::string& lane, const std::string& what) {
        return line(R"({"at":)" + std::to_string(static_cast<int64_t>(us * 1000)) + R"(,"lane":")" + lane + R"(",)" +
                    what + "}");
    }
    TextRecording& begin(double us, const std::string& lane, const std::string& site) {
        return at(us, lane, R"("do":"begin","site":")" + site + "\"");
    }
    TextRecording& end(double us, const std::string& lane) { return at(us, lane, R"("do":"end")"); }
    TextRecording& mark(double from, double to, const std::string& lane, const std::string& site) {
        return begin(from, lane, site).end(to, lane);
    }
    TextRecording& frame(double us, const std::string& lane, double deadlineUs = 10'000,
                         const std::string& series = "loop") {
        return at(us, lane,
                  R"("do":"frame","series":")" + series + R"(","deadline_ns":)" +
                      std::to_string(static_cast<int64_t>(deadlineUs * 1000)));
    }
    TextRecording& frameEnd(double us, const std::string& lane, const std::string& series = "loop") {
        return at(us, lane, R"("do":"frame_end","series":")" + series + "\"");
    }
    TextRecording& wait(double us, const std::string& lane, const std::string& site, const std::string& object,
                        const std::string& kind) {
        return at(us, lane,
                  R"("do":"wait","site":")" + site + R"(","object":")" + object + R"(","kind":")" + kind + "\"");
    }
    TextRecording& waitEnd(double us, const std::string& lane, int link = 0) {
        return at(us, lane, R"("do":"wait_end","link":)" + std::to_string(link));
    }
    /// Of the innermost open marker; `value` as it stands in JSON.
    TextRecording& argument(double us, const std::string& lane, const std::string& key, const std::string& value) {
        return at(us, lane, R"("do":"argument","key":")" + key + R"(","value":)" + value);
    }
    static std::string quoted(const std::string& text) { return '"' + text + '"'; }
    TextRecording& taken(double us, const std::string& lane, const std::string& object) {
        return at(us, lane, R"("do":"taken","object":")" + object + "\"");
    }
    TextRecording& given(double us, const std::string& lane, const std::string& object) {
        return at(us, lane, R"("do":"given","object":")" + object + "\"");
    }
    TextRecording& linkOut(double us, const std::string& lane, int link) {
        return at(us, lane, R"("do":"link_out","link":)" + std::to_string(link));
    }
    TextRecording& linkIn(double us, const std::string& lane, int link) {
        return at(us, lane, R"("do":"link_in","link":)" + std::to_string(link));
    }

    const std::string& text() const { return text_; }
    std::shared_ptr<const Recording> open() const {
        MemorySource source(text_);
        auto opened = openRecording(source, "test");
        if (!opened) qFatal("%s", opened.failure().sentence.c_str());
        return *opened;
    }

private:
    std::string text_ = "{\"fugato\":\"text\",\"version\":1}\n";
};

inline uint32_t laneNamed(const Recording& recording, const std::string& name) {
    for (uint32_t i = 0; i < recording.lanes.size(); ++i)
        if (recording.lanes[i].name == name) return i;
    return kNone;
}

inline QString pathOf(const Recording& recording, PathId path) {
    QStringList names;
    for (const std::string& name : recording.namesOf(path)) names << QString::fromStdString(name);
    return names.join("/");
}

}  // namespace fugato
