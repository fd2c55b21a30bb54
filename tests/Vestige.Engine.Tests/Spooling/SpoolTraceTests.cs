using System.Buffers;
using CsCheck;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Tests.Doubles;
using Vestige.Engine.Tests.Simulation;
using Vestige.Engine.Tracing;
using Xunit;

namespace Vestige.Engine.Tests.Spooling;

/// <summary>A trace finds what reading the whole spool finds.</summary>
public sealed class SpoolTraceTests
{
    private static readonly SpoolOptions Small = new(FileBytes: 1500, BudgetBytes: 1 << 20, RecordBytes: 200, SpanBytes: 1 << 20);
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public Task Every_change_of_a_row_is_found_and_no_other() =>
        Gen.Select(Gen.Int[0, 30].Array[1, 120], Gen.Bool)
            .SampleAsync(
                async (keys, reopened) =>
                {
                    var files = new MemoryFiles();
                    var spool = await Spool.OpenAsync(files, new PlainCipher(), Small, TimeProvider.System, cancellation);
                    await spool.StartAsync(new LogIdentity("sim", 1), LogPosition.Zero, cancellation);
                    for (var i = 0; i < keys.Length; i++)
                    {
                        await spool.AppendAsync(Read(i + 1, keys[i]), DateTimeOffset.UnixEpoch, cancellation);
                        await spool.SyncAsync(cancellation);
                        if (reopened && i == keys.Length / 2)
                        {
                            await spool.RecoverAsync(cancellation);
                        }
                    }

                    foreach (var key in Enumerable.Range(0, 31))
                    {
                        var expected = Enumerable
                            .Range(0, keys.Length)
                            .Where(i => IsOf(keys[i], key))
                            .Select(i => new LogPosition((ulong)i + 1))
                            .ToList();
                        var (found, more) = await new SpoolTrace(spool, new PlainCipher(), 5).RowAsync(
                            SimRows.First.Name,
                            [$"{key}"],
                            null,
                            cancellation
                        );
                        Assert.Equal(expected.TakeLast(5), found.Select(change => change.Position));
                        Assert.Equal(expected.Count > 5, more);
                    }

                    await spool.DisposeAsync();
                },
                iter: 60
            );

    /// <summary>
    /// The filter of a file was written, the next file could not be begun, and the file is written on: its filter is of less than it holds.
    /// </summary>
    [Fact]
    public async Task A_file_that_is_written_on_after_its_filter_hides_nothing()
    {
        var files = new MemoryFiles();
        await using var spool = await Spool.OpenAsync(files, new PlainCipher(), Small, TimeProvider.System, cancellation);
        await spool.StartAsync(new LogIdentity("sim", 1), LogPosition.Zero, cancellation);
        var place = 0;
        async Task WriteAsync(int key)
        {
            await spool.AppendAsync(Read(++place, key), DateTimeOffset.UnixEpoch, cancellation);
            await spool.SyncAsync(cancellation);
        }

        files.NoMoreFiles = true;
        await Assert.ThrowsAsync<IOException>(async () =>
        {
            while (true)
            {
                await WriteAsync(5);
            }
        });
        await spool.RecoverAsync(cancellation);
        files.NoFilters = true;
        await Assert.ThrowsAsync<IOException>(() => WriteAsync(7));
        await spool.RecoverAsync(cancellation);
        Assert.Single(files.All);
        Assert.Equal((ulong)place, spool.Last.Offset);
        var (found, _) = await new SpoolTrace(spool, new PlainCipher(), 5).RowAsync(SimRows.First.Name, ["7"], null, cancellation);
        Assert.Equal(spool.Last, Assert.Single(found).Position);
    }

    [Fact]
    public async Task A_transaction_is_found_by_its_position()
    {
        await using var spool = await Spool.OpenAsync(new MemoryFiles(), new PlainCipher(), Small, TimeProvider.System, cancellation);
        await spool.StartAsync(new LogIdentity("sim", 1), LogPosition.Zero, cancellation);
        foreach (var place in Enumerable.Range(1, 40))
        {
            await spool.AppendAsync(Read(place, place), DateTimeOffset.UnixEpoch, cancellation);
            await spool.SyncAsync(cancellation);
        }

        var trace = new SpoolTrace(spool, new PlainCipher(), 100);
        var (changes, _) = await trace.TransactionAsync(new LogPosition(17), cancellation);
        Assert.Equal([17, 17], changes.Select(change => change.Change.After.IntegerAt(0)));
        Assert.Empty((await trace.TransactionAsync(new LogPosition(41), cancellation)).Changes);
    }

    /// <summary>Key 0 empties the table, which concerns every row; key 1 and the one after it stand for a key that moves.</summary>
    private static bool IsOf(int written, int key) => written == 0 || written == key || (written == 1 && key == 2);

    private static LogRead Read(int place, int key)
    {
        var bytes = new ArrayBufferWriter<byte>();
        ChangeWriter.Write(
            bytes,
            key switch
            {
                0 => new RowChange(ChangeKind.Truncate, 0, default, default),
                1 => new RowChange(ChangeKind.Update, 0, SimRows.Of(1, "before"), SimRows.Of(2, "after")),
                _ => new RowChange(ChangeKind.Insert, 0, default, SimRows.Of(key, $"row {key}")),
            }
        );
        ChangeWriter.Write(bytes, new RowChange(ChangeKind.Insert, 1, default, SimRows.Of(key, "of another table")));
        var fragment = new LogFragment(new LogPosition((ulong)place), DateTimeOffset.UnixEpoch, true, true, 1, bytes.WrittenMemory);
        return new LogRead(
            [fragment],
            new Dictionary<int, TableSchema> { [0] = SimRows.First, [1] = SimRows.Second },
            fragment.Position,
            AtHead: true
        );
    }
}
