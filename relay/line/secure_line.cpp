// SPDX-License-Identifier: GPL-3.0-or-later
#include "secure_line.h"

#include <netinet/in.h>
#include <netinet/tcp.h>
#include <openssl/err.h>
#include <openssl/ssl.h>
#include <poll.h>
#include <sys/socket.h>

#include <cstring>

namespace fugato::line {

namespace {

using Clock = std::chrono::steady_clock;

constexpr unsigned char kCipher[] = {0x13, 0x01};  // TLS_AES_128_GCM_SHA256, whose hash a pre-shared key has
constexpr char kCipherName[] = "TLS_AES_128_GCM_SHA256";
constexpr unsigned char kIdentity[] = "fugato";
constexpr int kHandshakeMs = 5'000;
constexpr size_t kMostUnsent = 64 << 20;
constexpr size_t kReadAtOnce = 1 << 20;  // then others get their turn

void freeSession(SSL_SESSION* session) { SSL_SESSION_free(session); }

/// The session that stands for the key. The caller's.
SSL_SESSION* sessionOf(SSL* ssl, const Key& key) {
    std::unique_ptr<SSL_SESSION, decltype(&freeSession)> session(SSL_SESSION_new(), freeSession);
    const SSL_CIPHER* const cipher = SSL_CIPHER_find(ssl, kCipher);
    if (!session || !cipher || SSL_SESSION_set1_master_key(session.get(), key.data(), key.size()) != 1 ||
        SSL_SESSION_set_cipher(session.get(), cipher) != 1 ||
        SSL_SESSION_set_protocol_version(session.get(), TLS1_3_VERSION) != 1)
        return nullptr;
    return session.release();
}

const Key& keyBehind(SSL* ssl) { return *static_cast<const Key*>(SSL_get_app_data(ssl)); }

int findSession(SSL* ssl, const unsigned char* identity, size_t length, SSL_SESSION** session) {
    *session = nullptr;
    if (length == sizeof kIdentity - 1 && std::memcmp(identity, kIdentity, length) == 0)
        *session = sessionOf(ssl, keyBehind(ssl));
    return 1;
}

int useSession(SSL* ssl, const EVP_MD*, const unsigned char** identity, size_t* length, SSL_SESSION** session) {
    *identity = kIdentity;
    *length = sizeof kIdentity - 1;
    *session = sessionOf(ssl, keyBehind(ssl));
    return *session ? 1 : 0;
}

void freeContext(SSL_CTX* context) { SSL_CTX_free(context); }
void freeSsl(SSL* ssl) { SSL_free(ssl); }

}  // namespace

struct SecureLine::Parts {
    Descriptor socket;
    Key key;
    std::unique_ptr<SSL_CTX, decltype(&freeContext)> context{nullptr, freeContext};
    std::unique_ptr<SSL, decltype(&freeSsl)> ssl{nullptr, freeSsl};
    bool open = false, over = false, wantsToWrite = false;
    std::string trouble;
    std::string out;
    size_t outAt = 0;
    ChunkReader reader;
    Clock::time_point began = Clock::now();

    bool end(std::string why) {
        over = true;
        if (trouble.empty()) trouble = std::move(why);
        return false;
    }
    /// Whether the call can go on later; else the line is over.
    bool later(int result, const char* otherwise) {
        const int error = SSL_get_error(ssl.get(), result);
        if (error == SSL_ERROR_WANT_READ) return true;
        if (error == SSL_ERROR_WANT_WRITE) return wantsToWrite = true;
        ERR_clear_error();
        return end(otherwise);
    }
};

SecureLine::SecureLine(Descriptor socket, Side side, const Key& key) : parts_(std::make_unique<Parts>()) {
    Parts& p = *parts_;
    p.key = key;
    p.socket = std::move(socket);
    const int yes = 1;
    ::setsockopt(p.socket.get(), IPPROTO_TCP, TCP_NODELAY, &yes, sizeof yes);
    p.context.reset(SSL_CTX_new(TLS_method()));
    if (p.context) {
        SSL_CTX* const context = p.context.get();
        SSL_CTX_set_min_proto_version(context, TLS1_3_VERSION);
        SSL_CTX_set_ciphersuites(context, kCipherName);
        SSL_CTX_set_num_tickets(context, 0);
        SSL_CTX_set_session_cache_mode(context, SSL_SESS_CACHE_OFF);
        // Without the key there is nothing to agree on: no certificates, and each connection has its own key exchange.
        SSL_CTX_set_psk_find_session_callback(context, findSession);
        SSL_CTX_set_psk_use_session_callback(context, useSession);
        if (side == Side::Client) SSL_CTX_set_verify(context, SSL_VERIFY_PEER, nullptr);
        SSL_CTX_set_mode(context, SSL_MODE_ENABLE_PARTIAL_WRITE | SSL_MODE_ACCEPT_MOVING_WRITE_BUFFER);
        p.ssl.reset(SSL_new(context));
    }
    if (!p.ssl || SSL_set_fd(p.ssl.get(), p.socket.get()) != 1) {
        p.end("no memory for a secure line");
        return;
    }
    SSL_set_app_data(p.ssl.get(), &p.key);
    side == Side::Device ? SSL_set_accept_state(p.ssl.get()) : SSL_set_connect_state(p.ssl.get());
}
SecureLine::~SecureLine() = default;
SecureLine::SecureLine(SecureLine&&) noexcept = default;
SecureLine& SecureLine::operator=(SecureLine&&) noexcept = default;

int SecureLine::descriptor() const { return parts_->socket.get(); }
short SecureLine::events() const {
    const bool write = parts_->wantsToWrite || (parts_->open && unsent() > 0);
    return static_cast<short>(POLLIN | (write ? POLLOUT : 0));
}
bool SecureLine::isOpen() const { return parts_->open && !parts_->over; }
std::string SecureLine::trouble() const { return parts_->trouble; }
size_t SecureLine::unsent() const { return parts_->out.size() - parts_->outAt; }
std::optional<Chunk> SecureLine::next() {
    auto chunk = parts_->reader.next();
    if (parts_->reader.isBad()) parts_->end("what came over it is not of this protocol");
    return chunk;
}
void SecureLine::send(const Chunk& chunk) {
    if (unsent() > kMostUnsent) parts_->end("the other side does not read what is sent to it");
    if (!parts_->over) parts_->out += bytesOf(chunk);
}

bool SecureLine::work() {
    Parts& p = *parts_;
    if (p.over) return false;
    ERR_clear_error();
    p.wantsToWrite = false;
    if (!p.open) {
        const int result = SSL_do_handshake(p.ssl.get());
        if (result != 1) {
            if (!p.later(result, "the pairing code is not that of the device, or it is no relay of Fugato"))
                return false;
            if (Clock::now() - p.began > std::chrono::milliseconds(kHandshakeMs))
                return p.end("the other side did not answer");
            return true;
        }
        // Only the key tells that the other side is the one meant.
        if (!SSL_session_reused(p.ssl.get())) return p.end("the other side did not show that it has the pairing code");
        p.open = true;
    }
    char bytes[16 * 1024];
    for (size_t got = 0; got < kReadAtOnce;) {
        const int size = SSL_read(p.ssl.get(), bytes, sizeof bytes);
        if (size <= 0) {
            if (!p.later(size, "it was interrupted")) return false;
            break;
        }
        p.reader.add({bytes, static_cast<size_t>(size)});
        got += static_cast<size_t>(size);
        if (p.reader.waiting() > 2 * kReadAtOnce) break;  // chunks are taken first
    }
    while (p.outAt < p.out.size()) {
        const int size =
            SSL_write(p.ssl.get(), p.out.data() + p.outAt, static_cast<int>(std::min<size_t>(unsent(), 1 << 20)));
        if (size <= 0) {
            if (!p.later(size, "it was interrupted")) return false;
            break;
        }
        p.outAt += static_cast<size_t>(size);
    }
    if (p.outAt == p.out.size() || p.outAt > kReadAtOnce) {
        p.out.erase(0, p.outAt);
        p.outAt = 0;
    }
    return true;
}

}  // namespace fugato::line
