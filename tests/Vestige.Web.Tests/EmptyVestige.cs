using Xunit;

namespace Vestige.Web.Tests;

/// <summary>
/// One running application with no connection and no crossing, for tests that change nothing which others see, or have it cleared.
/// </summary>
public sealed class EmptyVestige : IAsyncLifetime
{
    public RunningVestige Process { get; private set; } = null!;

    public async ValueTask InitializeAsync() => Process = await RunningVestige.HostAsync("--empty", "true");

    /// <summary>The same, without what earlier tests have left in it.</summary>
    public async Task<RunningVestige> ClearedAsync()
    {
        await Process.ClearAsync();
        return Process;
    }

    public ValueTask DisposeAsync() => Process.DisposeAsync();
}
