namespace Vestige.Engine.Ports;

/// <summary>A log whose size can be read at any moment at no cost, so that a page may show it live. Safe for several threads.</summary>
public interface ILogGauge
{
    LogGauge Read();
}
