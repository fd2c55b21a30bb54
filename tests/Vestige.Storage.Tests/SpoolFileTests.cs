using Microsoft.Data.Sqlite;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.SpoolFiles;
using Xunit;

namespace Vestige.Storage.Tests;

public sealed class SpoolFileTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("vestige-spool-").FullName;
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    [Fact]
    public async Task What_was_not_synced_is_not_seen_and_is_gone_after_reopening()
    {
        var files = new SqliteSpoolFiles(folder);
        await using (var file = await files.OpenAsync(1, cancellation))
        {
            await file.AppendAsync(Data(1, 10), cancellation);
            Assert.Empty(await file.ReadAsync(0, 1000, cancellation));
            await file.SyncAsync(cancellation);
            await file.AppendAsync(Data(2, 20), cancellation);
            Assert.Single(await file.ReadAsync(0, 1000, cancellation));
        }

        await using var again = await files.OpenAsync(1, cancellation);
        Assert.Equal(1, (await again.LastAsync(complete: false, cancellation))!.Sequence);
    }

    [Fact]
    public async Task Records_are_found_by_position_and_cut_by_sequence()
    {
        await using var file = await new SqliteSpoolFiles(folder).OpenAsync(1, cancellation);
        await file.AppendAsync(new SpoolRecord(1, SpoolRecordKind.Header, 0, true, 0, 0, new byte[] { 9 }), cancellation);
        await file.AppendAsync(Data(2, 10), cancellation);
        await file.AppendAsync(Data(3, 20), cancellation);
        await file.AppendAsync(Data(4, 20, complete: false), cancellation);
        await file.SyncAsync(cancellation);
        Assert.Single(await file.ReadSideAsync(cancellation));
        Assert.Equal(2, (await file.FindAsync(15, cancellation))!.Sequence);
        Assert.Null(await file.FindAsync(5, cancellation));
        Assert.Equal(3, (await file.LastAsync(complete: true, cancellation))!.Sequence);
        await file.CutAsync(3, cancellation);
        Assert.Equal(3, (await file.LastAsync(complete: false, cancellation))!.Sequence);
    }

    [Fact]
    public async Task A_read_returns_at_least_one_record_and_stops_at_its_size()
    {
        await using var file = await new SqliteSpoolFiles(folder).OpenAsync(1, cancellation);
        for (var i = 1; i <= 5; i++)
        {
            await file.AppendAsync(Data(i, (ulong)i, size: 1000), cancellation);
        }

        await file.SyncAsync(cancellation);
        Assert.Single(await file.ReadAsync(0, 1, cancellation));
        Assert.Equal([3L, 4L], (await file.ReadAsync(2, 1500, cancellation)).Select(record => record.Sequence));
        Assert.True(file.Bytes >= 5000);
    }

    [Fact]
    public async Task Reading_does_not_sort_the_file()
    {
        // The plan SQLite makes for the two hot queries, told by SQLite itself.
        await using (await new SqliteSpoolFiles(folder).OpenAsync(1, cancellation))
        {
            using var connection = new SqliteConnection(
                $"Data Source={Directory.EnumerateFiles(folder, "*.spool").Single()};Pooling=False"
            );
            connection.Open();
            using var explain = connection.CreateCommand();
            explain.CommandText = "EXPLAIN QUERY PLAN SELECT sequence FROM record WHERE +kind = 3 AND sequence > 5 ORDER BY sequence";
            using var reader = explain.ExecuteReader();
            Assert.True(reader.Read());
            Assert.Contains("USING INTEGER PRIMARY KEY", reader.GetString(3), StringComparison.Ordinal);
            Assert.False(reader.Read());
        }
    }

    [Fact]
    public async Task A_closed_file_says_so_and_files_are_listed_and_deleted()
    {
        var files = new SqliteSpoolFiles(folder);
        var file = await files.OpenAsync(7, cancellation);
        await (await files.OpenAsync(12, cancellation)).DisposeAsync();
        Assert.Equal([7L, 12L], await files.ListAsync(cancellation));
        await file.DisposeAsync();
        Assert.True((await Assert.ThrowsAsync<PortException>(() => file.SyncAsync(cancellation))).Transient);
        await files.DeleteAsync(7, cancellation);
        Assert.Equal([12L], await files.ListAsync(cancellation));
    }

    private static SpoolRecord Data(long sequence, ulong last, bool complete = true, int size = 10) =>
        new(sequence, SpoolRecordKind.Data, last, complete, sequence, sequence, new byte[size]);
}
