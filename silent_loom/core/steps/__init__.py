"""Every step, a file each; the only folder that the registry scans."""
