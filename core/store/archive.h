// SPDX-License-Identifier: GPL-3.0-or-later
//
// Puts values into bytes, or takes them out again; one description of the fields serves both. Columns are
// put as the place where they lie in a Storage. A type of one's own is described by a function beside it:
//     template <class A> void describe(A& archive, Site& s) { archive(s.name, s.line); }
// Taking out never reads beyond the bytes or the storage: where they do not fit, good() is false.
#pragma once

#include <cstring>
#include <map>
#include <optional>
#include <string>
#include <type_traits>
#include <vector>

#include "storage.h"

namespace fugato {

template <bool kPutting>
class Archive {
public:
    static constexpr bool kWriting = kPutting;
    /// Both outlive the archive.
    Archive(Storage& storage, std::string& bytes) : storage_(storage), bytes_(bytes) {}
    bool good() const { return good_; }
    Storage& storage() const { return storage_; }

    template <class... Fields>
    void operator()(Fields&... fields) {
        (field(fields), ...);
    }

private:
    void raw(void* data, size_t size) {
        if constexpr (kWriting) {
            bytes_.append(static_cast<const char*>(data), size);
        } else {
            if (!good_ || size > bytes_.size() - at_) {
                good_ = false;
                return;
            }
            std::memcpy(data, bytes_.data() + at_, size);
            at_ += size;
        }
    }
    /// The number of things that follow; each takes at least a byte.
    uint64_t count(uint64_t size) {
        raw(&size, sizeof size);
        if (!kWriting && (!good_ || size > bytes_.size() - at_)) {
            good_ = false;
            return 0;
        }
        return size;
    }

    void field(bool& value) {  // any byte may stand there
        uint8_t byte = value;
        raw(&byte, sizeof byte);
        value = byte != 0;
    }
    template <class T>
    void field(T& value) {
        if constexpr (std::is_arithmetic_v<T> || std::is_enum_v<T>)
            raw(&value, sizeof value);
        else
            describe(*this, value);
    }
    void field(std::string& text) {
        const uint64_t size = count(text.size());
        if constexpr (!kWriting) text.resize(size);
        raw(text.data(), size);
    }
    template <class T>
    void field(std::optional<T>& value) {
        bool has = value.has_value();
        field(has);
        if (has && !value) value.emplace();
        if (has) field(*value);
    }
    template <class T>
    void field(std::vector<T>& values) {
        const uint64_t size = count(values.size());
        if constexpr (!kWriting) values.resize(size);
        for (T& value : values) field(value);
    }
    template <class K, class V>
    void field(std::map<K, V>& values) {
        uint64_t size = count(values.size());
        if constexpr (kWriting) {
            for (auto& [key, value] : values) {
                K copy = key;
                (*this)(copy, value);
            }
        } else {
            for (; size && good_; --size) {
                K key{};
                field(key);
                field(values[key]);
            }
        }
    }
    template <class T>
    void field(Column<T>& column) {
        char* const base = storage_.at(0);
        uint64_t at = column.empty() ? 0 : static_cast<uint64_t>(reinterpret_cast<const char*>(column.data()) - base),
                 size = column.size();
        (*this)(at, size);
        if constexpr (!kWriting) {
            if (!good_ || at % 8 || at > storage_.size() || size > (storage_.size() - at) / sizeof(T)) {
                good_ = false;
                return;
            }
            good_ = storage_.check(at, size * sizeof(T));
            if (!good_) return;
            column = size ? Column<T>(reinterpret_cast<const T*>(base + at), size) : Column<T>();
        }
    }

    Storage& storage_;
    std::string& bytes_;
    size_t at_ = 0;
    bool good_ = true;
};

}  // namespace fugato
