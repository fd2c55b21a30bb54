namespace Vestige.Engine.Events;

/// <summary>How much an event asks for attention.</summary>
public enum EventKind
{
    Note,
    Warning,
    Fault,
}
