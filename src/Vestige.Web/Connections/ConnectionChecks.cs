using System.Collections.Concurrent;
using Vestige.Core.Readiness;
using Vestige.Engine.Faults;

namespace Vestige.Web.Connections;

/// <summary>
/// Tests each connection every ten minutes, and keeps what the latest test gave, whoever asked for it. Safe for several threads.
/// </summary>
public sealed class ConnectionChecks(ConnectionDirectory connections, TimeProvider clock) : BackgroundService
{
    private const string VersionStep = "version";
    private static readonly TimeSpan Every = TimeSpan.FromMinutes(10);
    private static readonly TimeSpan AfterStart = TimeSpan.FromSeconds(20);
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(15);
    private readonly ConcurrentDictionary<string, CheckedConnection> latest = new();

    /// <summary>What the latest test of a connection gave; null where none was made since the start.</summary>
    public CheckedConnection? Of(string connection) => latest.GetValueOrDefault(connection);

    /// <summary>Tests a connection now. Throws <see cref="PortException"/> where it cannot even be opened.</summary>
    public async Task<IReadOnlyList<ReadinessCheck>> TestAsync(string connection, CancellationToken cancellation)
    {
        var lines = await connections.Source(connection).Probe.TestAsync(cancellation);
        var failed = lines.FirstOrDefault(line => !line.Ok);
        latest[connection] = new CheckedConnection(
            clock.GetUtcNow(),
            lines.FirstOrDefault(line => line.Step == VersionStep)?.Found,
            failed is null ? null : $"{failed.Step}: {failed.Found}"
        );
        return lines;
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Delay(AfterStart, clock, stoppingToken);
        using var timer = new PeriodicTimer(Every, clock);
        do
        {
            foreach (var connection in connections.All.Select(connection => connection.Name))
            {
                await TryAsync(connection, stoppingToken);
            }
        } while (await timer.WaitForNextTickAsync(stoppingToken));
    }

    private async Task TryAsync(string connection, CancellationToken cancellation)
    {
        using var patience = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        patience.CancelAfter(Patience);
        try
        {
            await TestAsync(connection, patience.Token);
        }
        catch (OperationCanceledException) when (!cancellation.IsCancellationRequested)
        {
            latest[connection] = new CheckedConnection(clock.GetUtcNow(), null, "no answer within 15 s");
        }
        catch (Exception exception) when (exception is not (OperationCanceledException or OutOfMemoryException))
        {
            // Whatever is wrong with one connection, the others are tested.
            latest[connection] = new CheckedConnection(clock.GetUtcNow(), null, exception.Message);
        }
    }
}
