package commission

import (
	"context"
	"errors"
	"io"
	"net/netip"
	"time"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/setting"
)

// The abilities of a session. A tongue has those that its protocol has operations for; a
// setting that a device cannot be told of in any of its tongues is refused by it.
type (
	// Keyer can be given its first password, and another.
	Keyer interface {
		// Rules gives the password rules the device publishes, or nil.
		Rules(ctx context.Context) (*secret.Rules, error)
		CreateAdministrator(ctx context.Context, user string, p secret.Password) error
		// SetPassword gives an administrator another password.
		SetPassword(ctx context.Context, user string, p secret.Password) error
	}
	// UserKeeper has users beside the administrator.
	UserKeeper interface {
		// CreateUser creates a further user; ChangeUser gives one that is there its level and password.
		CreateUser(ctx context.Context, u User) error
		ChangeUser(ctx context.Context, u User) error
		// Opens offers the password of a further user once, beside what goes on; false means refused.
		Opens(ctx context.Context, user string, p secret.Password) (bool, error)
	}
	// UserRemover can have users taken away again.
	UserRemover interface {
		DeleteUser(ctx context.Context, name string) error
	}
	// Leaser can be told to ask for its address by DHCP; restart tells whether the device wants
	// one before it does.
	Leaser interface {
		SetDHCP(ctx context.Context) (restart bool, err error)
	}
	// ClockSetter has a clock.
	ClockSetter interface {
		// SetClock tells by how much the clock may be behind, where the time was long on its way.
		SetClock(ctx context.Context) (late time.Duration, err error)
	}
	// Namer has a name.
	Namer interface {
		SetName(ctx context.Context, name string) error
	}
	// ServerSetter can be told which servers to ask.
	ServerSetter interface {
		SetDNS(ctx context.Context, servers []netip.Addr) error
		// SetNTP sets the NTP servers, and the clock to follow them.
		SetNTP(ctx context.Context, servers []netip.Addr) error
	}
	// Addresser can be moved to another address.
	Addresser interface {
		// SetAddress sets address and prefix with DHCP off; restart tells whether
		// the device wants one before it uses them.
		SetAddress(ctx context.Context, s device.Settings) (restart bool, err error)
		SetGateway(ctx context.Context, gateway netip.Addr) error
	}
	// Restarter can be restarted.
	Restarter interface {
		Restart(ctx context.Context) error
	}
	// Resetter can be put back into its factory state, address and users included.
	Resetter interface {
		Reset(ctx context.Context) error
	}
)

// Captioner is the ability to name the picture sources of a device and to
// show the name in its pictures. It is had by a session whose Read finds Pictures.
type Captioner interface {
	// Caption gives each source its PictureName; what is so already is not written.
	Caption(ctx context.Context, name string) error
}

// Secured is the ability of a conversation to tell where what follows goes over HTTPS.
type Secured interface {
	// Secured gives that once a setting has brought it about; nil before.
	Secured() *device.TLS
}

// Moved is the ability of a conversation to tell where what follows finds the device's service.
type Moved interface {
	// Moved gives its place, with the port before the path, once a setting has brought it about; "" before.
	Moved() string
}

// Vouched is the ability of a conversation to go by what the site's own authority has signed.
type Vouched interface {
	// Vouched reports whether the device shows a certificate that the authority made for it.
	Vouched() bool
}

// Stiller is the ability of a session to give a picture as it is now, as JPEG.
type Stiller interface {
	Still(ctx context.Context) ([]byte, error)
}

// ErrNoBackup is returned where a device gives no backup of its settings.
var ErrNoBackup = errors.New("it gives no backup of its settings")

// File is one that a device gives away.
type File struct {
	Name string // as the device calls it
	Data []byte
}

// Backer is the ability of a session to give the device's own backup of its settings.
type Backer interface {
	// Backup gives its files; ErrNoBackup where there are none.
	Backup(ctx context.Context) ([]File, error)
}

// Image is firmware that is sent to a device.
type Image struct {
	Name string
	Size int64 // in bytes
	// Open begins to read it. An error while it is read breaks the sending off: the device never has all of it.
	Open func() (io.ReadCloser, error)
}

// Flasher is the ability of a session to replace the firmware of its device.
type Flasher interface {
	// Flash sends an image, and gives how long the device says that it will be away; 0 where it does not say.
	Flash(ctx context.Context, img Image) (down time.Duration, err error)
}

// Pinned is the ability of a conversation by a static key.
type Pinned interface {
	// Pin is what is to be kept of the key that the device has proved to have in this
	// conversation; "" before that.
	Pin() string
}

// UnableError tells that a device has no ability in the tongue that is spoken with it.
type UnableError = setting.UnableError

// able gives an ability of a conversation.
func able[A any](s Session, what string) (A, error) {
	return setting.Able[A](s, what)
}
