using System.Runtime.InteropServices;

namespace Vestige.Web.Hosting;

/// <summary>
/// Keeps what is in a folder from other users of the machine: folders 0700 and files 0600, those that are made later too.
/// </summary>
internal static partial class OwnerOnly
{
    private const UnixFileMode Folder = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;
    private const UnixFileMode File = UnixFileMode.UserRead | UnixFileMode.UserWrite;

    /// <summary>Whatever this process makes from now on is for its user only.</summary>
    public static void MakeFromNowOn()
    {
        if (!OperatingSystem.IsWindows())
        {
            _ = Umask(0b000_111_111);
        }
    }

    /// <summary>repairs what was made before. A file that belongs to someone else is left as it is.</summary>
    public static void Enforce(string folder)
    {
        if (OperatingSystem.IsWindows() || !Directory.Exists(folder))
        {
            return;
        }

        Set(folder, Folder);
        foreach (
            var path in Directory.EnumerateFileSystemEntries(
                folder,
                "*",
                new EnumerationOptions
                {
                    RecurseSubdirectories = true,
                    AttributesToSkip = FileAttributes.ReparsePoint,
                    IgnoreInaccessible = true,
                }
            )
        )
        {
            Set(path, Directory.Exists(path) ? Folder : File);
        }
    }

    private static void Set(string path, UnixFileMode most)
    {
        try
        {
            if (!OperatingSystem.IsWindows() && System.IO.File.GetUnixFileMode(path) is var mode && (mode & ~most) != UnixFileMode.None)
            {
                System.IO.File.SetUnixFileMode(path, mode & most);
            }
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            // It is another user's, or gone.
        }
    }

    [LibraryImport("libc", EntryPoint = "umask")]
    private static partial uint Umask(uint mask);
}
