package onvif

import (
	"context"

	"unlatch/core/ground/signin"
)

// A User is an account of a device (Core Specification §8.4).
type User struct {
	Name  string `xml:"Username" json:"name"`
	Level string `xml:"UserLevel" json:"level"` // Administrator, Operator, User, Anonymous
}

// mostUsers is how many accounts of a device are read.
const mostUsers = 128

// Users lists the device's accounts (Core Specification §8.4.3); passwords are never told.
func (c *Client) Users(ctx context.Context) ([]User, error) {
	var out struct {
		Users []User `xml:"User"`
	}
	err := c.Call(ctx, c.device, NSDevice+"/GetUsers", `<GetUsers xmlns="`+NSDevice+`"/>`, &out)
	return out.Users[:min(len(out.Users), mostUsers)], err
}

// SetUser gives an account another password (Core Specification §8.4.6).
func (c *Client) SetUser(ctx context.Context, name string, secret signin.Secret, level string) error {
	return c.writeUser(ctx, "SetUser", name, secret, level)
}

// CreateUser makes an account (Core Specification §8.4.4). On a factory-fresh device it is the first one, and closes the device to
// everybody else.
func (c *Client) CreateUser(ctx context.Context, name string, secret signin.Secret, level string) error {
	return c.writeUser(ctx, "CreateUsers", name, secret, level)
}

func (c *Client) writeUser(ctx context.Context, operation, name string, secret signin.Secret, level string) error {
	c.log.Know(signin.SignIn{User: name, Secret: secret})
	return c.Call(ctx, c.device, NSDevice+"/"+operation,
		`<`+operation+` xmlns="`+NSDevice+`"><User><tt:Username>`+Escape(name)+`</tt:Username><tt:Password>`+
			Escape(secret.Reveal())+`</tt:Password><tt:UserLevel>`+level+`</tt:UserLevel></User></`+operation+`>`, nil)
}

// DeleteUser takes an account away (Core Specification §8.4.5).
func (c *Client) DeleteUser(ctx context.Context, name string) error {
	return c.Call(ctx, c.device, NSDevice+"/DeleteUsers",
		`<DeleteUsers xmlns="`+NSDevice+`"><Username>`+Escape(name)+`</Username></DeleteUsers>`, nil)
}
