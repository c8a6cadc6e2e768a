// SPDX-License-Identifier: GPL-3.0-or-later
//
// The one result type of everything that can fail: a value, or one sentence for the person
// (what, where, what to do). The compiler does not let a result go unread.
#pragma once

#include <string>
#include <utility>
#include <variant>

namespace fugato {

struct Failure {
    std::string sentence;
    bool cancelled = false;  // the person stopped it; nothing is wrong
    bool output = false;     // what was to be written is at fault, not what was read
};

template <class Value>
class [[nodiscard]] Result {
public:
    Result(Value value) : content_(std::move(value)) {}
    Result(Failure failure) : content_(std::move(failure)) {}
    bool ok() const { return content_.index() == 0; }
    explicit operator bool() const { return ok(); }
    Value& operator*() { return std::get<0>(content_); }
    const Value& operator*() const { return std::get<0>(content_); }
    Value* operator->() { return &std::get<0>(content_); }
    const Value* operator->() const { return &std::get<0>(content_); }
    const Failure& failure() const { return std::get<1>(content_); }

private:
    std::variant<Value, Failure> content_;
};

}  // namespace fugato
