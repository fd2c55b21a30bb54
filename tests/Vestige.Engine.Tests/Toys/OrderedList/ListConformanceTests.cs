using Vestige.Core.Changes;
using Vestige.Engine.Ports;
using Vestige.Tests.Conformance;

namespace Vestige.Engine.Tests.Toys.OrderedList;

/// <summary>The list under the suite for sinks of changes.</summary>
public sealed class ListConformanceTests : ChangeSinkConformance
{
    protected override Task<ConnectedSink> ConnectAsync() => Task.FromResult<ConnectedSink>(new Connected());

    private sealed class Connected : ConnectedSink
    {
        private readonly ListConnector list = new();

        public override IConnector Connector => list;

        public override Task<IReadOnlyList<string>> ReadAsync() => Task.FromResult<IReadOnlyList<string>>([.. list.Entries.Select(Shown)]);

        public override Task<IReadOnlyList<string>> IdentifiersAsync() =>
            Task.FromResult<IReadOnlyList<string>>([.. list.Entries.Select(entry => entry.Id)]);

        public override ValueTask DisposeAsync() => list.DisposeAsync();

        private static string Shown(ListEntry entry)
        {
            var change = entry.Change.Change;
            return entry.Kind switch
            {
                ListEntryKind.LoadBegan => "[",
                ListEntryKind.LoadEnded => "]",
                ListEntryKind.Loaded => $"·{change.After.DisplayAt(0)} {change.After.DisplayAt(1)}",
                _ => ChangeSymbols.Of(change.Kind)
                    + (change.After.IsNone ? change.Before.DisplayAt(0) : $"{change.After.DisplayAt(0)} {change.After.DisplayAt(1)}"),
            };
        }
    }
}
