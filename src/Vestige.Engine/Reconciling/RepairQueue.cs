using Vestige.Core.Positions;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Reconciling;

/// <summary>What a crossing's worker is asked to repair. Safe for several threads.</summary>
internal sealed class RepairQueue
{
    private readonly Lock gate = new();
    private readonly List<RepairOrder> orders = [];

    /// <summary>Beats when something is asked.</summary>
    public AsyncSignal Asked { get; } = new();

    public void Add(RepairOrder order)
    {
        lock (gate)
        {
            orders.Add(order);
        }

        Asked.Beat();
    }

    /// <summary>Nobody waits for it any more; false when a worker has taken it.</summary>
    public bool Remove(RepairOrder order)
    {
        lock (gate)
        {
            return orders.Remove(order);
        }
    }

    /// <summary>Takes an order for which the target has gone far enough; null when there is none.</summary>
    public RepairOrder? Take(LogPosition position)
    {
        lock (gate)
        {
            var order = orders.Find(one => one.From <= position);
            if (order is not null)
            {
                orders.Remove(order);
            }

            return order;
        }
    }
}
