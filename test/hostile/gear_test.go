package hostile

func (w *world) gearLanes() {}
