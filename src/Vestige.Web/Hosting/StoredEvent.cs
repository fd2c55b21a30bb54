using Vestige.Engine.Events;

namespace Vestige.Web.Hosting;

/// <summary>An event as it stands in the store.</summary>
/// <param name="Id">Grows with each event.</param>
/// <param name="Event">What happened.</param>
public sealed record StoredEvent(long Id, CrossingEvent Event);
