namespace Vestige.Web.Hosting;

/// <summary>One process a data folder: held until the process ends, however it ends.</summary>
public sealed class DataFolderLock : IDisposable
{
    private readonly FileStream file;

    private DataFolderLock(FileStream file) => this.file = file;

    /// <summary>Takes the folder; throws <see cref="IOException"/> with what to do when another process has it.</summary>
    public static DataFolderLock Take(string folder)
    {
        Directory.CreateDirectory(folder);
        var path = Path.Combine(folder, "lock");
        try
        {
            return new DataFolderLock(new FileStream(path, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None));
        }
        catch (IOException exception)
        {
            throw new IOException(
                $"The data folder {folder} is used by another Vestige process. End that one, or choose another folder with --data.",
                exception
            );
        }
    }

    public void Dispose() => file.Dispose();
}
