#include "core/base/disk.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <charconv>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <utility>
#include <vector>

namespace rapporto {
namespace {

namespace fs = std::filesystem;

constexpr std::string_view kPart = ".part";

/// Where `path` leads through symbolic links, also when the last of them leads to nothing yet.
fs::path targetOf(const std::string& path) {
    fs::path at(path);
    std::error_code none;
    for (int steps = 0; steps < 40 && fs::is_symlink(fs::symlink_status(at, none)); ++steps) {
        const fs::path next = fs::read_symlink(at, none);
        if (next.empty()) {
            break;
        }
        at = next.is_absolute() ? next : at.parent_path() / next;
    }
    return at;
}

fs::path folderOf(const fs::path& file) {
    return file.has_parent_path() ? file.parent_path() : fs::path(".");
}

/// Clears what writers of `file` that are no more left beside it.
void clearLeftovers(const fs::path& file, Disk& disk) {
    const std::string head = "." + file.filename().string() + ".";
    std::error_code none;
    std::vector<fs::path> left;
    for (fs::directory_iterator at(folderOf(file), none), end; !none && at != end;
         at.increment(none)) {
        const std::string name = at->path().filename().string();
        // What follows is a number alone: a file of a longer name has leftovers of its own.
        if (name.starts_with(head) && name.find('.', head.size()) == name.size() - kPart.size() &&
            isLeftBehind(name)) {
            left.push_back(at->path());
        }
    }
    for (const fs::path& one : left) {
        (void)disk.unlink(one.c_str());
    }
}

/// The folder's own entry of the file must be on the disk, too. Some file systems cannot do that,
/// and some folders may be written in and not looked into: then the file is as safe as it gets
/// there.
bool syncFolder(const fs::path& folder, Disk& disk) {
    const FileHandle handle(disk.open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC, 0), disk);
    if (!handle.isOpen()) {
        return errno == EACCES;
    }
    return disk.sync(handle.get()) == 0 || errno == EINVAL || errno == ENOTSUP;
}

}  // namespace

int Disk::open(const char* path, int flags, mode_t mode) { return ::open(path, flags, mode); }

ssize_t Disk::write(int handle, const void* bytes, std::size_t count) {
    return ::write(handle, bytes, count);
}

int Disk::sync(int handle) { return fsync(handle); }

int Disk::close(int handle) { return ::close(handle); }

int Disk::rename(const char* from, const char* to) { return std::rename(from, to); }

int Disk::unlink(const char* path) { return ::unlink(path); }

int Disk::setMode(int handle, mode_t mode) { return fchmod(handle, mode); }

int Disk::setOwner(int handle, uid_t owner, gid_t group) { return fchown(handle, owner, group); }

Disk& systemDisk() {
    static Disk disk;
    return disk;
}

FileHandle::FileHandle(FileHandle&& other) noexcept
    : handle_(std::exchange(other.handle_, -1)), disk_(other.disk_) {}

FileHandle& FileHandle::operator=(FileHandle&& other) noexcept {
    std::swap(handle_, other.handle_);
    std::swap(disk_, other.disk_);
    return *this;
}

FileHandle::~FileHandle() {
    if (handle_ >= 0) {
        (void)disk_->close(handle_);
    }
}

bool FileHandle::write(std::string_view text) {
    while (!text.empty()) {
        const ssize_t done = disk_->write(handle_, text.data(), text.size());
        if (done < 0 && errno == EINTR) {
            continue;
        }
        if (done <= 0) {
            errno = done == 0 ? ENOSPC : errno;
            return false;
        }
        text.remove_prefix(static_cast<std::size_t>(done));
    }
    return true;
}

int FileHandle::close() { return disk_->close(std::exchange(handle_, -1)); }

Refusal fileTrouble(const std::string& what, const std::string& path, int error) {
    const auto because = [&](const char* why, const char* help) {
        return Refusal{ErrorCode::File, what + ": " + why, path, help, {}};
    };
    switch (error) {
        case ENOSPC:
        case EDQUOT:
            return because("the disk is full", "Make room or choose another place.");
        case EROFS:
            return because("the place can only be read", "Choose another place.");
        case EACCES:
        case EPERM:
            return because("you have no right to do so there",
                           "Ask for the right or choose another place.");
        case ENOENT:
        case ENOTDIR:
            return because("it is not there, or its folder is gone", "Choose another place.");
        case EISDIR:
            return because("it is a folder", "Choose the name of a file.");
        case ELOOP:
            return because("its links lead in a circle", "Choose another place.");
        case ENAMETOOLONG:
            return because("the name is too long", "Choose a shorter one.");
        case EMFILE:
        case ENFILE:
            return because("too many files are open", "Close something and try again.");
        case EFBIG:
            return because("it would be larger than the place allows", "Choose another place.");
        case EIO:
            return because("the disk reports a fault", "Choose another place, and look after it.");
        default:
            return because(std::strerror(error), "Choose another place.");
    }
}

Result<FileHandle> openForReading(const std::string& path) {
    const std::string what = "the file cannot be opened";
    const std::size_t nul = path.find('\0');
    if (nul != std::string::npos) {
        return refuse(ErrorCode::File, what + ": its name holds a character that no name can hold",
                      path.substr(0, nul), "Put the name right.");
    }
    // Not to be waited for: a pipe opens at once this way, and is then sent away.
    FileHandle handle(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOCTTY),
                      systemDisk());
    if (!handle.isOpen()) {
        Refusal refusal = fileTrouble(what, path, errno);
        refusal.help = "Check that it is there and may be read.";
        return tl::make_unexpected(refusal);
    }

    struct stat info {};

    const bool known = fstat(handle.get(), &info) == 0;
    if (known && S_ISREG(info.st_mode)) {
        return handle;
    }
    const char* kind = !known                   ? "something that cannot be looked at"
                       : S_ISDIR(info.st_mode)  ? "a folder"
                       : S_ISFIFO(info.st_mode) ? "a pipe"
                       : S_ISSOCK(info.st_mode) ? "a socket"
                                                : "a device";
    return refuse(ErrorCode::File, what + ": it is " + kind + ", not a file", path,
                  "Choose a file.");
}

Result<std::string> readWhole(const std::string& path, std::size_t most) {
    const auto handle = openForReading(path);
    if (!handle) {
        return tl::make_unexpected(handle.error());
    }

    struct stat info {};

    if (fstat(handle->get(), &info) == 0 && static_cast<std::size_t>(info.st_size) > most) {
        return refuse(
            ErrorCode::File,
            fmt::format("the file has {} bytes; such a file has at most {}", info.st_size, most),
            path, "Choose another file.");
    }
    std::string text;
    std::vector<char> block(std::size_t{1} << 20U);
    for (;;) {
        const ssize_t got = ::read(handle->get(), block.data(), block.size());
        if (got < 0 && errno == EINTR) {
            continue;
        }
        if (got < 0) {
            return tl::make_unexpected(fileTrouble("the file cannot be read", path, errno));
        }
        if (got == 0) {
            return text;
        }
        text.append(block.data(), static_cast<std::size_t>(got));
        if (text.size() > most) {
            return refuse(ErrorCode::File, "the file grows while it is read", path,
                          "Wait until it is whole.");
        }
    }
}

Result<Written> replaceFile(const std::string& path, std::string_view text, Disk& disk) {
    const std::string what = "the file cannot be written";
    const std::size_t nul = path.find('\0');
    if (path.empty() || nul != std::string::npos) {
        return refuse(ErrorCode::File, what + ": that is no name of a file", path.substr(0, nul),
                      "Choose another name.");
    }
    const fs::path target = targetOf(path);
    Written written;

    struct stat old {};

    const bool replaces = lstat(target.c_str(), &old) == 0;
    if (replaces && S_ISDIR(old.st_mode)) {
        return tl::make_unexpected(fileTrouble(what, path, EISDIR));
    }
    if (replaces && !S_ISREG(old.st_mode)) {
        return refuse(ErrorCode::File, what + ": what is there is no file", path,
                      "Choose another place.");
    }
    // A file that may not be written is not to be replaced by way of its folder's rights.
    if (replaces && access(target.c_str(), W_OK) != 0) {
        return tl::make_unexpected(fileTrouble(what, path, errno));
    }
    clearLeftovers(target, disk);
    const fs::path beside = nameBeside(path);
    (void)disk.unlink(beside.c_str());
    // Nobody else may read it before it has the mode of what it replaces.
    FileHandle handle(
        disk.open(beside.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, replaces ? 0600 : 0666),
        disk);
    if (!handle.isOpen()) {
        return tl::make_unexpected(fileTrouble(what, path, errno));
    }
    const auto failed = [&] {
        const int error = errno;
        (void)disk.unlink(beside.c_str());
        return tl::unexpected<Refusal>(fileTrouble(what, path, error));
    };
    if (replaces) {
        written.otherNamesLeftBehind = old.st_nlink > 1;
        if (old.st_uid != geteuid() || old.st_gid != getegid()) {
            written.ownerChanged = disk.setOwner(handle.get(), old.st_uid, old.st_gid) != 0;
        }
        // Without its owner, rights meant for the old group would go to another one.
        const mode_t mode = old.st_mode & 07777U;
        if (disk.setMode(handle.get(), written.ownerChanged ? mode & 0700U : mode) != 0) {
            return failed();
        }
    }
    if (!handle.write(text) || disk.sync(handle.get()) != 0 || handle.close() != 0 ||
        disk.rename(beside.c_str(), target.c_str()) != 0) {
        return failed();
    }
    if (!syncFolder(folderOf(target), disk)) {
        // It stands and is whole; only a cut of the power could still bring the old one back.
        return refuse(ErrorCode::File,
                      "the file was written, but the disk does not confirm that it would outlast a "
                      "cut of the power",
                      path, "Save once more, or at another place.");
    }
    return written;
}

Result<void> putInPlace(const std::string& from, const std::string& path) {
    const auto text = readWhole(from);
    (void)systemDisk().unlink(from.c_str());
    if (!text) {
        return tl::make_unexpected(text.error());
    }
    const auto done = replaceFile(path, *text);
    return done ? Result<void>() : tl::make_unexpected(done.error());
}

std::string nameBeside(const std::string& path) {
    const fs::path target = targetOf(path);
    return folderOf(target) / fmt::format(".{}.{}{}", target.filename().string(), getpid(), kPart);
}

bool isLeftBehind(const std::string& name) {
    if (!name.starts_with('.') || !name.ends_with(kPart)) {
        return false;
    }
    const char* to = name.data() + name.size() - kPart.size();
    const std::size_t from = name.rfind('.', name.size() - kPart.size() - 1) + 1;
    pid_t pid = 0;
    const auto read = std::from_chars(name.data() + from, to, pid);
    return read.ec == std::errc() && read.ptr == to && pid > 0 && kill(pid, 0) != 0 &&
           errno == ESRCH;
}

bool sameFile(const std::string& a, const std::string& b) {
    std::error_code none;
    if (fs::exists(a, none) && fs::exists(b, none)) {
        return fs::equivalent(a, b, none);
    }
    return fs::weakly_canonical(targetOf(a), none) == fs::weakly_canonical(targetOf(b), none);
}

}  // namespace rapporto
