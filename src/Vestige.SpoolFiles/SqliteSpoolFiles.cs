using System.Globalization;
using Vestige.Engine.Ports;

namespace Vestige.SpoolFiles;

/// <summary>Spool files as SQLite databases in one folder, named by their number.</summary>
public sealed class SqliteSpoolFiles(string folder) : ISpoolFiles
{
    private const string Ending = ".spool";

    public Task<IReadOnlyList<long>> ListAsync(CancellationToken cancellation)
    {
        if (!Directory.Exists(folder))
        {
            return Task.FromResult<IReadOnlyList<long>>([]);
        }

        IReadOnlyList<long> numbers =
        [
            .. Directory
                .EnumerateFiles(folder, "*" + Ending)
                .Select(path =>
                    long.TryParse(Path.GetFileNameWithoutExtension(path), NumberStyles.None, CultureInfo.InvariantCulture, out var number)
                        ? number
                        : (long?)null
                )
                .OfType<long>()
                .Order(),
        ];
        return Task.FromResult(numbers);
    }

    public Task<ISpoolFile> OpenAsync(long number, CancellationToken cancellation)
    {
        Directory.CreateDirectory(folder);
        return Task.FromResult<ISpoolFile>(SqliteSpoolFile.Open(PathOf(number)));
    }

    public Task DeleteAsync(long number, CancellationToken cancellation)
    {
        foreach (var ending in new[] { "", "-wal", "-shm" })
        {
            File.Delete(PathOf(number) + ending);
        }

        return Task.CompletedTask;
    }

    private string PathOf(long number) => Path.Combine(folder, number.ToString("D10", CultureInfo.InvariantCulture) + Ending);
}
